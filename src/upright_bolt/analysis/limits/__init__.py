"""What limits clock and power at a moment."""
