"""Plain typed data: quantities, controls, sensors, settings, runs. No input or output happens here."""
