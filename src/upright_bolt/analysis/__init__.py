"""Numbers from telemetry: no input or output, no clock, no machine."""
