"""What a machine's cooling carries: its model, the fit, and how a temperature is held."""
