"""Mode logic: modes with what they set, the conditions that lead from one to another, and what a flight does then."""
