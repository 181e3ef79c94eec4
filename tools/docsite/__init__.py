"""The documentation's site: its pages run, its reference written of the code, all of it built."""
