"""What an aircraft is: the keys of its file, its loadings, laws, faults, and the configuration that is flown."""
