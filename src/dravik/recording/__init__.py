"""Recordings: signals over time in memory and in files, read and written without a flight."""

from dravik.recording.recording import Event, Recording, read_recording
from dravik.recording.tracks import write_track

__all__ = ["Event", "Recording", "read_recording", "write_track"]
