"""The pages as a browser and a screen reader have them; only where there is a browser."""

from __future__ import annotations

import html
import importlib.resources
import json
import re
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from conftest import Space

BROWSER = next(filter(None, map(shutil.which, ("chromium", "chromium-browser", "google-chrome"))), None)
ASKED = """
const told = e => { const p = document.createElement("pre"); p.id = "told"; p.textContent = JSON.stringify(e);
  document.body.replaceChildren(p); };
const wide = document.documentElement.scrollWidth - window.innerWidth;
axe.run().then(r => told([wide, r.violations.map(v => [v.impact, v.id, v.nodes.slice(0, 2).map(n => n.html)])]));
"""


def asked(page: Path, folder: Path, width: int) -> tuple[int, list[Any]]:
    """By how many pixels a page is too wide, and what is wrong with it for those who do not see it."""
    axe = importlib.resources.files("axe_core_python").joinpath("axe.min.js").read_text(encoding="utf-8")
    scripts = "".join("<script>" + text.replace("</script", "<\\/script") + "</script>" for text in (axe, ASKED))
    copy = folder / "page.html"
    copy.write_text(page.read_text().replace("</body>", f"{scripts}</body>"))
    words = ["--headless", "--no-sandbox", "--disable-gpu", f"--user-data-dir={folder}/profile", "--dump-dom",
             f"--window-size={width},900", "--virtual-time-budget=20000"]  # fmt: skip
    done = subprocess.run(
        [str(BROWSER), *words, copy.as_uri()], capture_output=True, text=True, timeout=120, check=True
    )
    found = re.search(r'<pre id="told">(.*?)</pre>', done.stdout, re.DOTALL)
    assert found is not None, page
    wide, wrong = json.loads(html.unescape(found[1]))
    return wide, wrong


@pytest.mark.skipif(BROWSER is None, reason="there is no browser")
@pytest.mark.parametrize("width", [1280, 500])
def test_pages_hold_within_a_screen_and_are_read_aloud_as_they_should(demo: Space, tmp_path: Path, width: int) -> None:
    folder = demo.root / "reports"
    pages = [
        folder / "index.html",
        *folder.glob("run-2-*.html"),
        *folder.glob("tables/s*.html"),
        folder / "docket/1.html",
    ]

    for page in pages:
        wide, wrong = asked(page, tmp_path, width)

        assert (page.name, wide, wrong) == (page.name, wide, [])
        assert wide <= 0, page
