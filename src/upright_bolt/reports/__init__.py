"""What leaves the program for people to read: tables, pages, and what a run's telemetry shows."""
