"""The page of the almanac, as HTML."""

from __future__ import annotations

import html

from yarnloom import FailedItem
from yarnloom.demo.models import Page


def almanac_page(pages: list[Page], missing: list[FailedItem], year: int) -> str:
    """The almanac as HTML."""
    parts = [
        "<!doctype html><meta charset=utf-8>",
        f"<title>Tide almanac {year}</title>",
        "<style>body{font:15px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;"
        "padding:0 1rem;color:#2e3338;background:#f8f5ee}h2{margin:1.6rem 0 .2rem}"
        "img{width:100%}a{color:#2f5fb0}.missing{color:#a8342f}</style>",
        f"<h1>Tide almanac {year}</h1>",
    ]
    for page in pages:
        low, high = page.extremes.lowest, page.extremes.highest
        table = page.table.file.name
        parts += [
            f"<h2>{html.escape(page.table.harbour.replace('-', ' ').title())}</h2>",
            f"<p>Highest water {high.level:.2f} m on {high.at:%d %B at %H:%M} UTC, lowest "
            f"{low.level:.2f} m on {low.at:%d %B at %H:%M} UTC. "
            f"<a href={table}>All {page.table.rows:,} high and low waters</a>.</p>",
        ]
        if page.plot:
            parts.append(f"<img src={page.plot.name} alt='readings and fitted tide'>")
    for one in missing:
        name, why = html.escape(one.name.title()), html.escape(one.error.message)
        parts.append(f"<p class=missing>{name} is missing: {why}.</p>")
    return "\n".join(parts)
