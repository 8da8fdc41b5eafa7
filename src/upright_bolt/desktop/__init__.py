"""The window. Thin: a view shows what a presenter holds and sends intents; no arithmetic, no file access."""
