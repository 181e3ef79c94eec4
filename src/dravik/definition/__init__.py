"""What users give, checked where it comes in: TOML files, fields with units, inputs and effectors, arguments."""
