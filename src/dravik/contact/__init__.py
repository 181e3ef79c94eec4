"""Contact with the ground: gear legs and hull points as formulas of the aircraft."""

from dravik.contact.legs import Leg, add_ground, add_leg, contact_states, guard

__all__ = ["Leg", "add_ground", "add_leg", "contact_states", "guard"]
