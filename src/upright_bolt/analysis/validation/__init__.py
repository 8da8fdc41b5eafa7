"""How far settings are validated, and what has failed."""
