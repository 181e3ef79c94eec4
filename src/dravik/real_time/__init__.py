"""Flights by the clock: pacing without drift, and what is done to a flight from outside between two of its steps."""

from dravik.real_time.flight import LiveFlight, Published
from dravik.real_time.pacing import Lateness, Pacer

__all__ = ["Lateness", "LiveFlight", "Pacer", "Published"]
