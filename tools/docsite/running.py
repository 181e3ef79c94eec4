"""Run the blocks of a page in their order, in an empty folder, and put what comes out of them below each.

A block of ``toml`` or ``csv`` with a name is a file; ``console`` are commands, ``python`` is a script whose names live on
to the end of the page. What such a block prints stands below it, unless a block of ``text`` does: then each of its lines
must have been printed. A picture is linked as if it lay beside the page: a block above has made it.
"""

import contextlib
import hashlib
import io
import json
import os
import re
import shlex
import shutil
import tempfile
import tomllib
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[2]
DOCS = ROOT / "docs"
KEPT = ROOT / "build" / "docs" / "pages"
FENCE = re.compile(r"^```(\w*)[ ]?([^\n]*)\n(.*?)^```[ ]*$", re.MULTILINE | re.DOTALL)
PICTURE = re.compile(r"(!\[[^\]]*\]\()([\w.-]+\.(?:png|gif|svg))\)")
COLOUR = re.compile(r"\x1b\[[0-9;]*m")
MOST_LINES, MOST_COLUMNS = 44, 96
FOLDERS = ("course", "how-to", "background", "reference")


class PageError(Exception):
    """A block of a page failed, or did not print what the page says."""


@dataclass
class Run:
    """A page as it is run: its text with outputs, and the pictures that it links, by name."""

    page: Path
    text: list[str] = field(default_factory=list)
    said: str = ""
    names: dict[str, Any] = field(default_factory=dict)

    def fail(self, what: str) -> PageError:
        """Return an error that names the page."""
        return PageError(f"{self.page.name}: {what}")


def pages() -> list[Path]:
    """Return every page whose blocks are run."""
    return [DOCS / "index.md", *(p for f in FOLDERS for p in sorted((DOCS / f).rglob("*.md")))]


def run_page(page: Path, folder: Path) -> str:
    """Run a page in a folder and return its text with what came out."""
    source, run, end = page.read_text(encoding="utf-8"), Run(page), 0
    with contextlib.chdir(folder):
        for block in FENCE.finditer(source):
            run.text.append(source[end : block.start()])
            end = block.end()
            following = FENCE.match(source, _next_text(source, end))
            _run_block(run, block, answered=following is not None and following[1] == "text")
    run.text.append(source[end:])
    return "".join(run.text)


def _next_text(source: str, place: int) -> int:
    while place < len(source) and source[place].isspace():
        place += 1
    return place


def _run_block(run: Run, block: re.Match[str], *, answered: bool) -> None:
    language, title, body = block.groups()
    if language in ("toml", "csv") and title:
        Path(title).parent.mkdir(parents=True, exist_ok=True)
        caption = f"added to {title}" if Path(title).exists() else title
        with Path(title).open("a", encoding="utf-8") as file:  # a file named again goes on
            file.write(body)
        run.text.append(
            f"```{{code-block}} {'text' if language == 'csv' else 'toml'}\n:caption: {caption}\n\n{body}```"
        )
        return
    if language == "toml":
        tomllib.loads(body)
    run.text.append(block[0])
    if language == "text" and run.said:
        for line in body.splitlines():
            if " ".join(line.split()) not in " ".join(run.said.split()):
                raise run.fail(f"this was not printed: {line}\n{run.said}")
    elif language in ("console", "python"):
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
            try:
                if language == "python":
                    exec(compile(body, str(run.page), "exec"), run.names)
                else:
                    _run_commands(run, body, out)
            except Exception as error:
                raise run.fail(f"{type(error).__name__}: {error}\n{body}{out.getvalue()}") from error
        run.said = COLOUR.sub("", out.getvalue())
        if "Traceback (most recent call last)" in run.said:  # such as a file that a script leaves open
            raise run.fail(f"a traceback among what was printed\n{body}{run.said}")
        if run.said.strip() and not answered:
            run.text.append(f"\n\n```{{code-block}} text\n:class: output\n\n{_shown(run.said)}\n```")


def _run_commands(run: Run, body: str, out: io.StringIO) -> None:
    from dravik.cli import main

    for line in body.replace("\\\n", " ").splitlines():
        command, _, expected = line.partition("   # exit code ")
        program, *arguments = shlex.split(command.removeprefix("$ "), comments=True)
        if program == "cd":
            os.chdir(arguments[0])
            continue
        if program != "dravik":
            raise run.fail(f"{program!r} is no command of the documentation")
        code = main(arguments)
        if code != int(expected or 0):
            raise run.fail(f"exit code {code}: {line}\n{out.getvalue()}")


def _shown(said: str) -> str:
    """Return what a reader sees of an output: progress that was overwritten is gone, much of it is cut."""
    lines = [line.rstrip().rpartition("\r")[2] for line in said.strip("\n").splitlines()]
    if len(lines) > MOST_LINES:
        lines = [*lines[: MOST_LINES - 4], f"... and {len(lines) - MOST_LINES + 4} lines more"]
    return "\n".join(lines)


def state_of_the_code() -> str:
    """Return a hash of all that a page's outputs depend on."""
    found = hashlib.sha256(f"{MOST_LINES} {MOST_COLUMNS}".encode())
    for path in sorted([*(ROOT / "src").rglob("*"), Path(__file__)]):
        if path.is_file() and path.suffix not in (".pyc", ".nbi", ".nbc"):
            found.update(str(path.relative_to(ROOT)).encode() + path.read_bytes())
    return found.hexdigest()


def kept_page(page: Path, state: str) -> Path:
    """Return the folder with a page as it runs on this state of the code: kept from before, or run now."""
    kept = KEPT / page.relative_to(DOCS).with_suffix("")
    key = hashlib.sha256(f"{state} {page.read_text(encoding='utf-8')}".encode()).hexdigest()
    mark = kept / "key.json"
    if mark.exists() and json.loads(mark.read_text(encoding="utf-8")) == key:
        return kept
    os.environ["COLUMNS"] = str(MOST_COLUMNS)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        text = run_page(page, folder)
        shutil.rmtree(kept, ignore_errors=True)
        kept.mkdir(parents=True)
        (kept / "page.md").write_text(_with_pictures(text, page, folder, kept), encoding="utf-8")
    mark.write_text(json.dumps(key), encoding="utf-8")
    return kept


def _with_pictures(text: str, page: Path, folder: Path, kept: Path) -> str:
    """Return the text with its pictures taken from where the page was run."""

    def taken(link: re.Match[str]) -> str:
        made = folder / link[2]
        if made.exists():
            shutil.copy(made, kept / link[2])
            return f"{link[1]}_made/{page.stem}/{link[2]})"
        if not (page.parent / link[2]).exists():
            raise PageError(f"{page.name}: no block has made {link[2]}")
        return link[0]

    return PICTURE.sub(taken, text)
