"""What Dravik asks of the computer it runs on: files, cores, and notices of long work."""
