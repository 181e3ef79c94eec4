"""Flights by the clock: pacing without drift, what is done to a flight between two of its steps, and playing back."""

from dravik.real_time.flight import LiveFlight
from dravik.real_time.pacing import Lateness, Pacer
from dravik.real_time.replay import Replay
from dravik.real_time.thread import FlightThread, Published

__all__ = ["FlightThread", "Lateness", "LiveFlight", "Pacer", "Published", "Replay"]
