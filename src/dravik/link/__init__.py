"""Datagrams between a flight and other programs: entity states of IEEE 1278.1, and a plain format of our own."""

from dravik.link.devices import Link, Receiver, Sender
from dravik.link.entity_state import EntityState, decode, encode, entity_state, extrapolated
from dravik.link.link_file import LinkDefinition, read_link
from dravik.link.picture_axes import pose_in_axes
from dravik.link.stick import Stick
from dravik.link.still_pose import still_pose, what_is_seen

__all__ = [
    "EntityState",
    "Link",
    "LinkDefinition",
    "Receiver",
    "Sender",
    "Stick",
    "decode",
    "encode",
    "entity_state",
    "extrapolated",
    "pose_in_axes",
    "read_link",
    "still_pose",
    "what_is_seen",
]
