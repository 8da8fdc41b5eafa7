"""One file per version, in order."""
