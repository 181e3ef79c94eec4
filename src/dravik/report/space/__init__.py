"""Pictures of motion in space: tracks, overhead views, animations, three views."""
