"""The frozen description of a network, its named defaults, and the checks that need no computing."""
