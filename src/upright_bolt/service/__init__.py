"""The root service on the system bus, and its client: the same interface as reaching the machine directly."""
