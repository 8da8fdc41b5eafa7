"""The Profiles view."""
