# The public names of dravik.guidance, listed here alone: loaded when they are first used, and seen by type checkers.
from .aiming import Band as Band
from .aiming import Shot as Shot
from .aiming import reachable_band as reachable_band
from .aiming import shoot as shoot
from .clearance import path_over_land as path_over_land
from .follower import Follower as Follower
from .follower import Steering as Steering
from .path import Arc as Arc
from .path import Line as Line
from .path import Path as Path
from .path import build_path as build_path
from .route import Point as Point
from .route import Route as Route
from .route import read_route as read_route
from .route_device import RouteGuidance as RouteGuidance
from .route_log import route_log as route_log
