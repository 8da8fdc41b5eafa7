"""Where a voltage or clock fails: what is believed, and what to test next."""
