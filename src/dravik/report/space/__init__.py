"""Pictures of motion in space: tracks, plans, animations, three views."""
