"""Ask the built site's own search thirty questions of the trade, in a browser without a window.

``python -m tools.docsite.ask`` prints for each question the place of the first page that answers it; it exits with 1 where
more than two have none among the first five. It needs a Chromium on the path.
"""

import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from urllib.parse import quote

from tools.docsite.build import SITE

QUESTIONS = Path(__file__).with_name("questions.toml")
LINK = re.compile(r'<li[^>]*class="[^"]*"[^>]*>\s*<a href="([^"#?]+)\.html')
FIRST = 5
OPTIONS = [
    "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
    "--virtual-time-budget=8000", "--dump-dom",
]  # fmt: skip


def found_pages(browser: str, words: str) -> list[str]:
    """Return the pages that a search finds, the best first, each once."""
    with tempfile.TemporaryDirectory() as profile:
        address = f"{(SITE / 'search.html').as_uri()}?q={quote(words)}"
        page = subprocess.run(
            [browser, *OPTIONS, f"--user-data-dir={profile}", address], capture_output=True, text=True, check=True
        ).stdout
    results = page.partition('<ul class="search">')[2].partition("</ul>")[0] or page
    return list(dict.fromkeys(m.removeprefix("./") for m in LINK.findall(results)))


def main() -> int:
    """Ask all questions and print what is found."""
    browser = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
    if browser is None:
        print("no Chromium on the path")
        return 2
    asked = tomllib.loads(QUESTIONS.read_text(encoding="utf-8"))["questions"]
    with ThreadPoolExecutor(2) as workers:
        answers = list(workers.map(lambda q: found_pages(browser, q["search"]), asked))
    missed = 0
    for question, pages in zip(asked, answers, strict=True):
        places = [pages.index(p) + 1 for p in question["pages"] if p in pages[:FIRST]]
        missed += not places
        told = f"place {min(places)}" if places else f"not found; first {pages[:3]}"
        print(f"{question['search']:34} {told}")
    print(f"{len(asked) - missed} of {len(asked)} answered by one search")
    return 1 if missed > 2 else 0


if __name__ == "__main__":
    sys.exit(main())
