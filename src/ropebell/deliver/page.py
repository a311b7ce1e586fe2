"""A page that can be printed and sent: one HTML file."""

from __future__ import annotations

import html
from collections.abc import Iterable, Sequence

from ropebell.errors import shown

STYLE = """body{font:14px/1.5 Inter,sans-serif;margin:32px;color:#222;max-width:1000px}h1{font-size:20px}
h2{font-size:16px;margin:24px 0 6px}.lead{font-size:16px}table{border-collapse:collapse;margin:8px 0}
td,th{border-top:1px solid #ccc;padding:3px 12px 3px 0;text-align:left;vertical-align:top}th{font-weight:600}
td.n{text-align:right;font-variant-numeric:tabular-nums}
.plans{display:flex;gap:24px;flex-wrap:wrap}figure{margin:12px 0}figcaption{color:#555}.more{color:#555}"""


def escaped(text: str) -> str:
    """Text as HTML, with what a terminal would obey or nothing can show written out: pages are read by `less`, too."""
    return html.escape("\n".join(shown(line) for line in text.split("\n")))


def page(title: str, body: str) -> str:
    """A whole page. Args: body: HTML."""
    return (
        f"<!DOCTYPE html><html lang='en'><meta charset='utf-8'><title>{escaped(title)}</title>"
        f"<style>{STYLE}</style>\n{body}\n</html>"
    )


def table(head: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table of text; numbers stand to the right."""
    lines = ["<table>"]
    if head:
        lines.append("<tr>" + "".join(f"<th>{escaped(cell)}</th>" for cell in head) + "</tr>")
    for row in rows:
        cells = [f"<td{_kind(cell)}>{escaped(str(cell))}</td>" for cell in row]
        lines.append("<tr>" + "".join(cells) + "</tr>")
    return "\n".join([*lines, "</table>"])


def _kind(cell: object) -> str:
    text = str(cell).replace(",", "").replace("%", "").strip()
    return " class=n" if text and text.lstrip("-+").replace(".", "", 1).isdigit() else ""
