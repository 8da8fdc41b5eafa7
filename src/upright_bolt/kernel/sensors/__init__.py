"""Reading sensors."""
