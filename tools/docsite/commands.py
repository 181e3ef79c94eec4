"""The reference of the command line, written of the commands themselves."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from typer.main import get_command

from dravik.cli.app import app
from tools.docsite.markdown import table, toctree


def commands() -> Iterator[tuple[str, Any]]:
    """Yield each command with its name, such as ``tables build``, in the order of the work."""

    def inside(command: Any, name: tuple[str, ...]) -> Iterator[tuple[str, Any]]:
        if hasattr(command, "commands"):
            for part, inner in command.commands.items():
                yield from inside(inner, (*name, part))
        else:
            yield " ".join(name), command

    yield from inside(get_command(app), ())


def _usage(option: Any) -> str:
    """Return an option as it is typed."""
    if option.param_type_name == "argument":
        return f"`{(option.metavar or option.name).upper()}`"
    names = ", ".join([*option.opts, *option.secondary_opts])
    kind = option.type_descriptor.annotation
    word = option.metavar or {int: "NUMBER", float: "NUMBER"}.get(kind, "TEXT")
    value = "" if option.is_flag else f" {word}"
    return f"`{names}{value}`"


def _default(option: Any) -> str:
    if option.param_type_name == "argument":
        return "required" if option.required else ""
    if option.is_flag or option.default in (None, "", (), []):
        return ""
    return f"`{option.default}`"


def page(name: str, command: Any) -> list[str]:
    """Return the page of a command."""
    help_text = (command.help or "").strip()
    lines = [f"# dravik {name}", "", *help_text.replace("``", "`").splitlines(), ""]
    arguments = " ".join(
        (a.metavar or a.name).upper() if a.required else f"[{(a.metavar or a.name).upper()}]"
        for a in command.params
        if a.param_type_name == "argument"
    )
    lines += ["```text", f"dravik {name} {arguments} [OPTIONS]".replace("  ", " "), "```", ""]
    rows = [
        (_usage(p) + (" (repeatable)" if p.multiple else "") if p.param_type_name == "option" else _usage(p),
         _default(p), getattr(p, "help", None) or "")
        for p in command.params
    ]  # fmt: skip
    lines += table(("argument or option", "default", "meaning"), rows)
    return lines


def write(folder: Path) -> None:
    """Write a page for each command, and the overview."""
    target = folder / "commands"
    target.mkdir(parents=True, exist_ok=True)
    rows, names = [], []
    for name, command in commands():
        file = name.replace(" ", "-")
        (target / f"{file}.md").write_text("\n".join(page(name, command)), encoding="utf-8")
        names.append(file)
        first, _, rest = (command.help or "").partition("\n\n")
        answer = " ".join(part for part in rest.split("\n\n") if part.startswith("Exit code 1"))
        rows.append((f"[`dravik {name}`]({file}.md)", first, answer.replace("Exit code 1: ", "").rstrip(".")))
    lines = [
        "# Commands",
        "",
        "The commands in the order of the work. `AIRCRAFT` is a file, its folder, or the name of a sample (`tarn`, `pika`, "
        "`merle`, `hail`). Every command takes `--json` and then prints JSON on standard output.",
        "",
        *table(("command", "does", "exit code 1 when"), rows),
        "## Exit codes",
        "",
        *table(("code", "meaning"), (
            ("0", "done"), ("1", "done, and the answer is no: see the table above"), ("2", "the input was wrong"),
            ("3", "the output could not be written"), ("130", "interrupted"),
        )),
        *toctree(names),
    ]  # fmt: skip
    (target / "index.md").write_text("\n".join(lines), encoding="utf-8")
