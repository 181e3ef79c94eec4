"""Build the site: ``python -m tools.docsite.build`` runs the pages, writes the reference and calls Sphinx.

The site is ``build/docs/html``; warnings are errors. Pages that were run on this very state of the code are taken as they
are: the tests run them too.
"""

import multiprocessing
import re
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from tools.docsite import commands, files, notebook, python_names, signals, terms, vocabulary
from tools.docsite.running import DOCS, FOLDERS, KEPT, ROOT, kept_page, pages, state_of_the_code

SOURCE = ROOT / "build" / "docs" / "source"
SITE = ROOT / "build" / "docs" / "html"


def main() -> int:
    """Build the site; return Sphinx's exit code."""
    begun = time.monotonic()
    write_source()
    print(f"pages run and reference written: {time.monotonic() - begun:.0f} s")
    unknown = vocabulary.unknown()
    for word, place in unknown.items():
        print(f"WARNING: {place}: {word!r} stands neither in the nomenclature nor among the plain words")
    shutil.rmtree(SITE, ignore_errors=True)
    options = ["-W", "--keep-going", "-q", "-j", "2", "-b", "html", "-d", str(SITE.parent / "doctrees")]
    command = [sys.executable, "-m", "sphinx", *options]
    code = subprocess.run([*command, str(SOURCE), str(SITE)], cwd=ROOT, check=False).returncode
    megabytes = sum(p.stat().st_size for p in SITE.rglob("*") if p.is_file() and ".doctrees" not in p.parts) / 1e6
    print(f"{SITE / 'index.html'}: {megabytes:.1f} MB, {time.monotonic() - begun:.0f} s in all")
    return code or (1 if unknown else 0)


def write_source() -> None:
    """Write all that Sphinx reads: the pages with their outputs, the reference, the gallery."""
    shutil.rmtree(SOURCE, ignore_errors=True)
    shutil.copytree(DOCS, SOURCE)
    for room in (commands, files, python_names, signals, terms):
        room.write(SOURCE / "reference")
    state, listed = state_of_the_code(), pages()
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as workers:
        kept = list(workers.map(kept_page, listed, [state] * len(listed)))
    for page, folder in zip(listed, kept, strict=True):
        target = SOURCE / page.relative_to(DOCS)
        target.write_text((folder / "page.md").read_text(encoding="utf-8"), encoding="utf-8")
        made = target.parent / "_made" / page.stem
        for picture in folder.glob("*.*"):
            if picture.suffix in (".png", ".gif", ".svg"):
                made.mkdir(parents=True, exist_ok=True)
                shutil.copy(picture, made)
    write_notebook(state)
    (SOURCE / "gallery.md").write_text(gallery(), encoding="utf-8")


def write_notebook(state: str) -> None:
    """Run the notebook, unless it was run on this state of the code, and write its page."""
    kept, key = KEPT.parent / "notebook", f"{state} {notebook.SCRIPT.read_text(encoding='utf-8')}"
    mark = kept / "key.txt"
    if not (mark.exists() and mark.read_text(encoding="utf-8") == key):
        shutil.rmtree(kept, ignore_errors=True)
        with tempfile.TemporaryDirectory() as folder:
            notebook.write_page(notebook.run_notebook(Path(folder)), kept)
        mark.write_text(key, encoding="utf-8")
    shutil.copytree(kept, SOURCE / "notebooks", ignore=shutil.ignore_patterns("key.txt"))


def gallery() -> str:
    """Return the page of all pictures that the pages make, each with a link to the page that shows how."""
    lines = ["# Gallery", "", "Every picture is made by the page that it leads to, when this site is built.", ""]
    lines += ["::::{container} gallery", ""]
    count = 0
    for folder in FOLDERS:
        for page in sorted((SOURCE / folder).rglob("*.md")):
            text = page.read_text(encoding="utf-8")
            title = (re.search(r"^# (.*)$", text, re.M) or [text, page.stem])[1]
            for alt, picture in re.findall(r"!\[([^\]]*)\]\((_made/[^)]+)\)", text):
                place = page.relative_to(SOURCE)
                lines += [
                    f":::{{figure}} {(place.parent / picture).as_posix()}",
                    f":target: {place.with_suffix('.html').as_posix()}",
                    f":alt: {alt}",
                    "",
                    f"{title}: {alt}",
                    ":::",
                    "",
                ]
                count += 1
    lines += ["::::", ""]
    print(f"{count} pictures in the gallery")
    return "\n".join(lines)


if __name__ == "__main__":
    sys.exit(main())
