"""The command logic: the modes of laws and scenarios, what leads from one to another, and a figure of it."""

from typing import TYPE_CHECKING

from dravik.cli.flying import craft_or_scenario
from dravik.cli.shared.common import AircraftFile, AsJson, Figure, Laws, Loading, emit, say, show_rows
from dravik.errors import DravikError

if TYPE_CHECKING:
    from dravik.mode_logic.modes import ModeLogic, Transition

__all__ = ["logic"]


def logic(
    aircraft: AircraftFile, loading: Loading = "", law: Laws = None, figure: Figure = "", as_json: AsJson = False
) -> None:
    """List the mode logic of an aircraft with its laws, or of a scenario: modes, what they set, where they lead."""
    craft = craft_or_scenario(aircraft, loading, law)
    found = craft.configuration.mode_logic
    if not found:
        raise DravikError(f"{craft.name} has no mode logic", hint="--law autopilot; or a scenario")
    if figure:
        from dravik.report import figure_mode_logic, save_figure

        save_figure(figure_mode_logic(craft), figure)
    if as_json:
        emit({"aircraft": craft.name, "mode_logic": {n: m.model_dump(by_alias=True) for n, m in found.items()}})
        return
    for name, modes in found.items():
        title = f"{name}: {modes.description}" if modes.description else name
        show_rows(title, ["mode", "sets and takes over", "leads to"], [_row(modes, m) for m in modes.modes])
    if figure:
        say(f"written: {figure}")


def _row(logic: "ModeLogic", mode: str) -> tuple[str, str, str]:
    entry = logic.modes[mode]
    does = [f"{n} = {v}" for n, v in entry.set.items()] + [f"{n} from {s}" for n, s in entry.take.items()]
    transitions = [_transition(t) for t in logic.transitions if mode in logic.sources(t)]
    return f"{mode}, first" if mode == logic.begin else mode, ", ".join(does), "; ".join(transitions)


def _transition(transition: "Transition") -> str:
    when = f"after {transition.after:g} s" if transition.when is None else str(transition.when)
    return f"{transition.to} when {when}" + (f" ({transition.reason})" if transition.reason else "")
