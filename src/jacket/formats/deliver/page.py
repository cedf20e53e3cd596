"""The report as a page to look at: the checks of every layer, the maps, how the delivery was made."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from html import escape
from typing import Any

from jacket.core.checks.model import Check

_STYLE = """
body{background:#eae5da;color:#23272e;font:14px/1.45 "DejaVu Sans",sans-serif;margin:2em auto;max-width:62em;padding:0 1em}
h1{font-family:"DejaVu Serif",serif;color:#7c2d3a;margin-bottom:0}h2{font-family:"DejaVu Serif",serif;font-size:1.15em;margin:1.6em 0 .4em}
table{border-collapse:collapse;background:#fbf9f4}td,th{border:1px solid #cfc8b8;padding:.25em .7em;text-align:left}
td.n{text-align:right;font-variant-numeric:tabular-nums}.good{border-left:4px solid #3f6b4f}.look{border-left:4px solid #e3a712}
.wrong{border-left:4px solid #7c2d3a}figure{display:inline-block;margin:.4em .8em .4em 0;vertical-align:top}
figcaption{color:#5b616b;font-size:.9em}img{max-width:300px;border:1px solid #cfc8b8;background:#fff}p.soft{color:#5b616b}
"""


def page_bytes(
    title: str, checks: Mapping[str, Sequence[Check]], pictures: Mapping[str, bytes], facts: Sequence[tuple[str, str]],
    notes: Sequence[str] = (),
) -> bytes:  # fmt: skip
    """An HTML page that stands alone. pictures are small PNGs by caption; facts are rows of two."""
    wrong = sum(c.level == "wrong" for rows in checks.values() for c in rows)
    out = [f"<!doctype html><html lang='en'><meta charset='utf-8'><title>{escape(title)}</title><style>{_STYLE}</style>",
           f"<h1>{escape(title)}</h1><p class='soft'>{'Every check is met.' if not wrong else f'{wrong} checks are not met.'}</p>"]  # fmt: skip
    out += [f"<p>{escape(note)}</p>" for note in notes]
    out.append("<h2>What is delivered</h2><table>" + "".join(f"<tr><th>{escape(a)}</th><td class='n'>{escape(b)}</td></tr>" for a, b in facts) + "</table>")
    for layer, rows in checks.items():
        out.append(f"<h2>Checks of {escape(layer)}</h2><table>")
        out += [f"<tr><td class='{c.level}'>{escape(c.label)}</td><td class='n'>{escape(c.value)}</td></tr>" for c in rows]
        out.append("</table>")
    if pictures:
        out.append("<h2>Pictures</h2>")
        for name, data in pictures.items():
            if data:
                source = base64.b64encode(data).decode()
                out.append(f"<figure><img alt='{escape(name)}' src='data:image/png;base64,{source}'><figcaption>{escape(name)}</figcaption></figure>")
    return ("".join(out) + "</html>\n").encode()


def facts_of(told: Mapping[str, Any], layers: int, faces: int, triangles: int, sheets: int) -> list[tuple[str, str]]:
    """Rows of the table of what is delivered."""
    return [("profile", str(told.get("profile", ""))), ("layers", str(layers)), ("faces", f"{faces:,}"), ("triangles", f"{triangles:,}"),
            ("sheets", str(sheets))]  # fmt: skip
