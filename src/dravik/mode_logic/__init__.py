"""Mode logic: modes with what they set, the conditions that lead from one to another, and what a flight does then."""

from dravik.mode_logic.modes import Mode, ModeLogic, Phase, Transition

__all__ = ["Mode", "ModeLogic", "Phase", "Transition"]
