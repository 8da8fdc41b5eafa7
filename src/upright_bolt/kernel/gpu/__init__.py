"""GPUs: which there are, and what can be set of them."""
