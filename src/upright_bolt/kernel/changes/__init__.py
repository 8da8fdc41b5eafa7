"""What changes on a machine without this program: writes, chargers, processors, programs."""
