"""What the window shows and what a person can ask of it, without Qt."""
