"""Which modes can be reached from the first one, and which cannot be left."""

from dravik.mode_logic.modes import END, ModeLogic

__all__ = ["dead_ends", "reached_modes", "set_by_hand"]


def set_by_hand(logic: ModeLogic) -> bool:
    """Whether modes are set from outside: no transition leads out of the first one."""
    return not any(logic.begin in logic.sources(t) for t in logic.transitions)


def reached_modes(logic: ModeLogic) -> set[str]:
    """Return the modes that transitions lead to from the first one, and that one itself."""
    reached, grown = {logic.begin}, True
    while grown:
        more = {t.to for t in logic.transitions if set(logic.sources(t)) & reached} - {END}
        grown = not more <= reached
        reached |= more
    return reached


def dead_ends(logic: ModeLogic) -> list[str]:
    """Return the modes that can be reached and not left, but for those that are meant to be ``final``."""
    reached = reached_modes(logic)
    left = {mode for t in logic.transitions for mode in logic.sources(t)}
    return [m for m, entry in logic.modes.items() if m in reached and not entry.final and m not in left]
