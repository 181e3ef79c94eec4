"""Checks of mode logic: modes that cannot be reached or left, targets that are set from two sides."""

from collections.abc import Iterator

from dravik.aircraft.craft import Aircraft
from dravik.checks.finding import Finding
from dravik.mode_logic.modes import ModeLogic, set_by
from dravik.mode_logic.reachability import dead_ends, reached_modes, set_by_hand

__all__ = ["check_modes"]


def check_modes(craft: Aircraft) -> list[Finding]:
    """Return what is wrong or doubtful about the mode logic of an aircraft's laws and script.

    Where no transition leads out of the first mode, modes are set by hand, by phases or by other mode logic, as those
    of an autopilot's axes are: of such mode logic only the targets are checked.
    """
    mode_logic = craft.configuration.mode_logic
    found = [f for name, logic in mode_logic.items() for f in _transition_findings(name, logic)]
    for target, names in set_by(mode_logic).items():
        rivals = [n for n in names if n != "phase"]
        if len(rivals) > 1:
            what = f"{' and '.join(rivals)} both set {target}: the last to change wins"
            do = "one mode logic for each target, or a mode of one that waits for the other"
            found.append(Finding("error", f"mode_logic.{rivals[1]}", what, do))
    return found


def _transition_findings(name: str, logic: ModeLogic) -> Iterator[Finding]:
    """Yield modes that no transition leads to or out of, where transitions change the modes at all."""
    if set_by_hand(logic):
        return
    place = "phases" if name == "phase" else f"mode_logic.{name}"
    reached, stuck = reached_modes(logic), dead_ends(logic)
    for mode in logic.modes:
        if mode not in reached:
            what = f"no transition leads to the mode {mode!r}"
            yield Finding("warning", place, what, "a transition to it, or leave it out")
        if mode in stuck:
            what = f"there is no way out of the mode {mode!r}"
            yield Finding("error", place, what, "a transition from it, or final = true where it is meant to stay")
