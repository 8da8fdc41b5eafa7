"""Versions of the run database, in Alembic's form."""
