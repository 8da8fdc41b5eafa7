"""One module per kernel interface. Each is found by itself: see ``kernel.survey``."""
