"""The network in motion: what fails, what changes, what must hold, and what a change does to it."""
