"""The control plane: fleets, scalers, updates and faults, in plain Python."""
