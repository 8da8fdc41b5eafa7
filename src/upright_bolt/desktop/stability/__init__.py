"""The Stability view."""
