"""From an aircraft's description to a tape and a program for the kernel."""
