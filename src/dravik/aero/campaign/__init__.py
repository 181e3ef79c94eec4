"""Wind-tunnel campaigns: read, simulated, and reduced to tables and derivatives."""
