"""All packets at once: exact sets, what follows from them for rules, and what a change does to every packet."""
