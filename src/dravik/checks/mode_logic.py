"""Checks of state machines: modes that cannot be reached or left, targets that two machines set."""

from collections.abc import Iterator

from dravik.aircraft.craft import Aircraft
from dravik.checks.finding import Finding
from dravik.mode_logic.modes import END, Machine, set_by

__all__ = ["check_modes"]


def check_modes(craft: Aircraft) -> list[Finding]:
    """Return what is wrong or doubtful about the machines of an aircraft's laws and plan.

    A machine whose first mode no transition leads out of is put into its modes by hand, by phases or by other machines,
    as the axes of an autopilot are: of such a one only the targets are checked.
    """
    machines = craft.configuration.machines
    found = [f for name, machine in machines.items() for f in _ways(name, machine)]
    for target, names in set_by(machines).items():
        rivals = [n for n in names if n != "phase"]
        if len(rivals) > 1:
            what = f"{' and '.join(rivals)} both set {target}: the last to change wins"
            do = "one machine for each target, or a mode of one that waits for the other"
            found.append(Finding("error", f"machines.{rivals[1]}", what, do))
    return found


def _ways(name: str, machine: Machine) -> Iterator[Finding]:
    if not any(machine.begin in machine.sources(t) for t in machine.transitions):
        return
    place = "phases" if name == "phase" else f"machines.{name}"
    reached, grown = {machine.begin}, True
    while grown:
        more = {t.to for t in machine.transitions if set(machine.sources(t)) & reached} - {END}
        grown = not more <= reached
        reached |= more
    for mode, entry in machine.modes.items():
        if mode not in reached:
            yield Finding(
                "warning", place, f"no transition leads to the mode {mode!r}", "a transition to it, or leave it out"
            )
        if mode in reached and not entry.final and not any(mode in machine.sources(t) for t in machine.transitions):
            yield Finding(
                "error", place, f"there is no way out of the mode {mode!r}",
                "a transition from it, or final = true where it is meant to stay",
            )  # fmt: skip
