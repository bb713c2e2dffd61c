"""Drawing plans and runs: as text, DOT, Mermaid and SVG. Pure: graph views in, text out.

A graph view is what `GET /runs/{number}/graph` and `GET /workflows?name=…` answer.
"""

from yarnloom.drawing.dot import dot
from yarnloom.drawing.mermaid import mermaid
from yarnloom.drawing.outline import OutlineLine, outline
from yarnloom.drawing.part_words import rules
from yarnloom.drawing.state_colours import DYES
from yarnloom.drawing.svg import svg

__all__ = ["DYES", "OutlineLine", "dot", "mermaid", "outline", "rules", "svg"]
