"""Drawing plans and runs: as text, DOT, Mermaid and SVG. Pure: graph views in, text out.

A graph view is what `GET /runs/{number}/graph` and `GET /workflows?name=…` answer.
"""

from yarnloom.drawing.dot import dot
from yarnloom.drawing.dyes import DYES
from yarnloom.drawing.mermaid import mermaid
from yarnloom.drawing.outline import Line, outline
from yarnloom.drawing.svg import svg
from yarnloom.drawing.words import rules

__all__ = ["DYES", "Line", "dot", "mermaid", "outline", "rules", "svg"]
