"""Where the parts of a graph stand: a fold over the plan, in two passes, linear in its size.

Time runs left to right. A sequence is one thread; a parallel splits it into strands, one below
the other, and a branch that waits for others stands to their right, on the strand of one of them
where that is free. An each is a frame around what it repeats, as are the branches of a choose and
what runs instead of a part; follow-ups are below the parts that they follow. Positions depend on
the plan alone, never on states. The console draws by the same rules
(`console/src/graph/layout.ts`).
"""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.drawing.part_words import View, follow_ups

STEP_WIDTH, STEP_HEIGHT = 208.0, 84.0
GAP, ROW_GAP = 52.0, 22.0
CAPTION = 22.0
FRAME, FRAME_TOP = 18.0, 58.0
FOLLOW_TOP = 34.0


@dataclass(frozen=True, slots=True)
class Box:
    """A part with its place: a step, or a frame around others.

    Attributes:
        view: the part.
        caption: of a frame or a parallel: what is written at its top.
    """

    view: View
    kind: str
    x: float
    y: float
    width: float
    height: float
    caption: str = ""


@dataclass(slots=True)
class _Size:
    """How much room a part takes; `middle` is where its thread runs, from its top."""

    width: float
    height: float
    middle: float
    own_height: float = 0.0
    places: list[tuple[float, float]] = field(default_factory=list)


@dataclass(slots=True)
class Layout:
    """All boxes, and how much room they take."""

    boxes: list[Box]
    width: float
    height: float


def lay_out(view: View) -> Layout:
    """The layout of a graph."""
    sizes: dict[int, _Size] = {}
    size = _measure(view, sizes)
    boxes: list[Box] = []
    _place(view, 0.0, size.middle, sizes, boxes)
    return Layout(boxes, size.width, size.height)


def _measure(view: View, sizes: dict[int, _Size]) -> _Size:
    match view["kind"]:
        case "step":
            size = _Size(STEP_WIDTH, STEP_HEIGHT, STEP_HEIGHT / 2)
        case "parallel":
            size = _measure_parallel(view, sizes)
        case "choose":
            size = _measure_choose(view, sizes)
        case "fallback":
            size = _measure_fallback(view, sizes)
        case "each":
            inner = _measure(view["do"], sizes)
            width = max(inner.width + 2 * FRAME, STEP_WIDTH + 2 * FRAME)
            size = _Size(width, inner.height + FRAME_TOP + FRAME, inner.middle + FRAME_TOP)
        case _:
            size = _measure_sequence(view, sizes)
    size.own_height = size.height
    for _, follow_up in follow_ups(view):
        below = _measure(follow_up, sizes)
        size.width = max(size.width, below.width + 2 * FRAME)
        size.height += ROW_GAP + FOLLOW_TOP + below.height + FRAME
    sizes[id(view)] = size
    return size


def _measure_sequence(view: View, sizes: dict[int, _Size]) -> _Size:
    framed = [_measure(one, sizes) for one in view["parts"]]
    above = max((one.middle for one in framed), default=0.0)
    below = max((one.height - one.middle for one in framed), default=0.0)
    width = sum(one.width for one in framed) + GAP * max(0, len(framed) - 1)
    return _Size(width, above + below, above)


def _framed(inner: _Size) -> _Size:
    """How much room a frame around a part takes."""
    height = FOLLOW_TOP + inner.height + FRAME
    return _Size(inner.width + 2 * FRAME, height, FOLLOW_TOP + inner.middle)


def _measure_choose(view: View, sizes: dict[int, _Size]) -> _Size:
    """Branches in frames, one below the other."""
    framed = [_framed(_measure(branch, sizes)) for branch in view["parts"]]
    places, top = [], CAPTION
    for one in framed:
        places.append((0.0, top + one.middle))
        top += one.height + ROW_GAP
    height = top - ROW_GAP
    width = max((one.width for one in framed), default=0.0)
    return _Size(width, height, (height + CAPTION) / 2, places=places)


def _measure_fallback(view: View, sizes: dict[int, _Size]) -> _Size:
    """The part, and behind it in a frame what runs in its place."""
    first, instead = (_measure(part, sizes) for part in view["parts"])
    framed = _framed(instead)
    above = max(first.middle, framed.middle)
    below = max(first.height - first.middle, framed.height - framed.middle)
    places = [(0.0, above), (first.width + GAP, above)]
    return _Size(first.width + GAP + framed.width, above + below, above, places=places)


def _measure_parallel(view: View, sizes: dict[int, _Size]) -> _Size:
    """Branches on rows: each behind all that it waits for, on the row of one of them if free."""
    branches = view["parts"]
    framed = [_measure(branch, sizes) for branch in branches]
    index = {one["label"]: place for place, one in enumerate(branches)}
    left: dict[int, float] = {}
    row_of: dict[int, int] = {}
    ends: list[float] = []  # of each row
    for place in _in_order(branches, index):
        waits = [index[label] for label in branches[place].get("waits_for", ())]
        left[place] = max((left[wait] + framed[wait].width + GAP for wait in waits), default=0.0)
        rows = [row_of[wait] for wait in waits if ends[row_of[wait]] + GAP <= left[place]]
        if rows:
            row = rows[0]
        else:
            row = len(ends)
            ends.append(0.0)
        row_of[place] = row
        ends[row] = left[place] + framed[place].width
    above = [0.0] * len(ends)
    below = [0.0] * len(ends)
    for place, row in row_of.items():
        above[row] = max(above[row], framed[place].middle)
        below[row] = max(below[row], framed[place].height - framed[place].middle)
    tops, top = [], CAPTION
    for row in range(len(ends)):
        tops.append(top + above[row])
        top += above[row] + below[row] + ROW_GAP
    height = top - ROW_GAP
    places = [(left[place], tops[row_of[place]]) for place in range(len(branches))]
    return _Size(max(ends, default=0.0), height, (height + CAPTION) / 2, places=places)


def _in_order(branches: list[View], index: dict[str, int]) -> list[int]:
    """The branches so that each comes behind those that it waits for, else in plan order."""
    framed: list[int] = []
    known: set[int] = set()
    for start in range(len(branches)):
        stack = [start]
        while stack:
            place = stack[-1]
            waits = [index[label] for label in branches[place].get("waits_for", ())]
            missing = [wait for wait in waits if wait not in known]
            if missing:
                stack.append(missing[0])
                continue
            stack.pop()
            if place not in known:
                known.add(place)
                framed.append(place)
    return framed


def _place(view: View, x: float, thread: float, sizes: dict[int, _Size], boxes: list[Box]) -> None:
    """Put a part where its left edge is `x` and its thread runs at `thread`."""
    size = sizes[id(view)]
    top = thread - size.middle
    match view["kind"]:
        case "step":
            boxes.append(Box(view, "step", x, top, STEP_WIDTH, STEP_HEIGHT))
        case "parallel":
            boxes.append(Box(view, "caption", x, top, size.width, CAPTION, view["label"]))
            for one, (left, middle) in zip(view["parts"], size.places, strict=True):
                _place(one, x + left, top + middle, sizes, boxes)
        case "choose":
            boxes.append(Box(view, "caption", x, top, size.width, CAPTION, view["label"]))
            for one, (left, middle) in zip(view["parts"], size.places, strict=True):
                _place_framed(one, one["label"], x + left, top + middle, sizes, boxes)
        case "fallback":
            (first, instead), ((left, at), (right, behind)) = view["parts"], size.places
            _place(first, x + left, top + at, sizes, boxes)
            _place_framed(instead, "instead", x + right, top + behind, sizes, boxes)
        case "each":
            inner = sizes[id(view["do"])]
            width = max(inner.width + 2 * FRAME, STEP_WIDTH + 2 * FRAME)
            boxes.append(Box(view, "each", x, top, width, size.own_height, view["label"]))
            _place(view["do"], x + FRAME, thread, sizes, boxes)
        case _:
            left = x
            for one in view["parts"]:
                _place(one, left, thread, sizes, boxes)
                left += sizes[id(one)].width + GAP
    below = top + size.own_height
    for name, follow_up in follow_ups(view):
        framed = _framed(sizes[id(follow_up)])
        thread = below + ROW_GAP + framed.middle
        _place_framed(follow_up, name, x, thread, sizes, boxes, "follow-up")
        below += ROW_GAP + framed.height


def _place_framed(
    view: View,
    caption: str,
    x: float,
    thread: float,
    sizes: dict[int, _Size],
    boxes: list[Box],
    kind: str = "branch",
) -> None:
    """Put a frame around a part where its left edge is `x` and its thread runs at `thread`."""
    framed = _framed(sizes[id(view)])
    boxes.append(Box(view, kind, x, thread - framed.middle, framed.width, framed.height, caption))
    _place(view, x + FRAME, thread, sizes, boxes)
