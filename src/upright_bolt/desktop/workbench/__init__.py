"""The Workbench: settings, live charts and the run."""
