"""Whether runs differ, by how much, and how sure that is."""
