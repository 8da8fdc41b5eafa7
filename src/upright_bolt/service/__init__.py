"""The root service on the system bus, and its client: the same face as reaching the machine directly."""
