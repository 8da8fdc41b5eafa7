"""Profiles: their files, when they are used, and keeping them in force."""
