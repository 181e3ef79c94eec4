"""Commands about what is on board: sensors, and the mode logic of laws."""
