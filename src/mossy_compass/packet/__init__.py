"""Addresses, services and packets as values. Imports nothing else of ours but the error tree."""
