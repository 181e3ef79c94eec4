"""What the commands share: options, printing, conditions and sweeps."""
