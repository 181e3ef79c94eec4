"""Where to fly: routes and their paths over the ground, the law that follows them, and points in space for rockets."""

from dravik.guidance.follower import Follower, Steering
from dravik.guidance.path import Arc, Line, Path, build_path
from dravik.guidance.route import Point, Route, read_route

__all__ = ["Arc", "Follower", "Line", "Path", "Point", "Route", "Steering", "build_path", "read_route"]
