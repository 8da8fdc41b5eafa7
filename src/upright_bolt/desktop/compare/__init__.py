"""The Compare view."""
