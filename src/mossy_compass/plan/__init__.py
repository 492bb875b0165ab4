"""The compiled stage tables: what each device does with a packet, in which order, and what a rule means."""
