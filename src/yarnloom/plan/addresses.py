"""Addresses: what names a part inside a run, as `harbours[brackwater]/fetch`.

An item's key is its name, else its index; characters that an address uses itself are
percent-encoded in it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from urllib.parse import quote, unquote

from yarnloom.plan.model import Node, Plan

_SEGMENT = re.compile(r"([^\[\]/#]+)(?:\[([^\[\]/#]*)\])?\Z")
# Whatever is no letter, digit or harmless mark, in any script.
_UNSAFE = re.compile(r"[^\w.~@:+()=,;!$&'*-]")


def item_key(name: str | None, item: int) -> str:
    """How an item is called in addresses."""
    return str(item) if name is None else _UNSAFE.sub(lambda found: quote(found[0], safe=""), name)


def address_in(plan: Plan, node: Node, keys: Mapping[int, str]) -> str:
    """The address of a node within a run.

    Args:
        plan: the run's plan.
        node: the node.
        keys: for every item that it stands in, by its node, the item's key.
    """
    segments: list[str] = []
    for one in plan.path(node):
        if one.label:
            segments.append(one.label)
        elif one.index in keys:
            segments[-1] += f"[{keys[one.index]}]"
    return "/".join(segments)


def split_address(address: str) -> list[tuple[str, str | None]] | None:
    """Labels from outside in, each with the key of an item or None; None if it is no address.

    Keys are as they stand in the address: still encoded.
    """
    found = []
    for segment in address.strip("/").split("/"):
        match = _SEGMENT.match(segment)
        if match is None:
            return None
        found.append((match[1], match[2]))
    return found


def item_name(key: str) -> str:
    """The name that a key stands for."""
    return unquote(key)
