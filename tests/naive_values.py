"""The values of references, read plainly from the written plan: a part of the plain reading."""

from __future__ import annotations

from typing import Any

from tests.written import Spot, Written
from yarnloom.plan.references import value_json

MISSING = object()


class Unfit(Exception):
    """What a part reads is not what it needs."""


class Values:
    """What a run has to give."""

    def at(self, spot: Spot, target: Written) -> Spot:
        """The spot of a part that is seen from another spot."""
        here = spot
        while True:
            spots = [one for one in here.of_plan() if one.written is target]
            if len(spots) == 1:
                return spots[0]
            assert here.around is not None
            here = here.around

    def value(self, value: Any, spot: Spot) -> Any:
        return self.of_json(value_json(value), spot)

    def of_json(self, written: dict[str, Any], spot: Spot) -> Any:
        """The value of a plan in the run."""
        match written:
            case {"constant": value}:
                return value
            case {"fields": fields, **rest}:
                value = self.of_json(rest, spot)
                for name in fields:
                    if value is None or value is MISSING:
                        return value
                    try:
                        value = value[name]
                    except (TypeError, KeyError, IndexError):
                        return MISSING
                return value
            case {"param": path}:
                return self.params.get(path, MISSING)
            case {"item": _, **rest}:
                here = spot
                of = (None, rest.get("of"))
                while not (
                    here.written.role == "item"
                    and (of[1] is None or here.around.written.own_label == of[1])
                ):
                    here = here.around
                return here.value
            case {"failure": _}:
                return self.failure(spot)
            case {"list": parts}:
                values = [self.of_json(one, spot) for one in parts]
                return [None if one is MISSING else one for one in values]
            case {"object": parts}:
                values = {name: self.of_json(one, spot) for name, one in parts.items()}
                return {name: one for name, one in values.items() if one is not MISSING}
            case {"text": template, "names": names}:
                return self.filled(template, names, spot)
            case {"compare": _} | {"all": _} | {"any": _} | {"not": _} | {"is_null": _}:
                return self.truth(written, spot) is True
        seen = spot.written.seen(written)
        assert seen is not None
        return self.given(written, self.at(spot, seen[0]))

    def filled(self, template: str, names: dict[str, Any], spot: Spot) -> str:
        for name, one in names.items():
            value = self.of_json(one, spot)
            if value is MISSING or isinstance(value, list | dict | None):
                raise Unfit
            shown = str(value).lower() if isinstance(value, bool) else str(value)
            template = template.replace("{" + name + "}", shown)
        return template

    def truth(self, written: dict[str, Any], spot: Spot) -> bool | None:
        """Whether a condition holds; None for unknown."""
        match written:
            case {"compare": [left, operator, right]}:
                left, right = self.of_json(left, spot), self.of_json(right, spot)
                if any(one is None or one is MISSING for one in (left, right)):
                    return None
                if operator == "in":
                    if not isinstance(right, list):
                        raise Unfit
                    return any(type(left) is type(one) and left == one for one in right)
                same = type(left) is type(right) and left == right
                if operator in ("==", "!="):
                    return same is (operator == "==")
                if type(left) is not type(right) or type(left) not in (int, str):
                    raise Unfit
                return {"<": left < right, "<=": left <= right, ">": left > right}.get(
                    operator, left >= right
                )
            case {"is_null": of}:
                return self.of_json(of, spot) in (None, MISSING)
            case {"not": of}:
                inner = self.truth(of, spot)
                return None if inner is None else not inner
            case {"all": of}:
                inner = [self.truth(one, spot) for one in of]
                return False if False in inner else None if None in inner else True
            case {"any": of}:
                inner = [self.truth(one, spot) for one in of]
                return True if True in inner else None if None in inner else False
        value = self.of_json(written, spot)
        if value is None or value is MISSING:
            return None
        if not isinstance(value, bool):
            raise Unfit
        return value

    def given(self, reference: dict[str, Any], target: Spot) -> Any:
        if "failures" in reference:
            return [
                {"name": one.key, "address": one.address, "error": {"type": "E", "message": ""}}
                for one in target.inner
                if one.state == "failed"
            ]
        if target.state != "done":
            return reference.get("default")
        if "only" in reference:
            return [one.output for one in target.inner if one.state == "done"]
        return target.output

    def failure(self, spot: Spot) -> Any:
        here = spot
        while not (here.written.is_follow_up or here.written.role == "instead"):
            here = here.around
        followed = here.around if here.written.is_follow_up else here.around.inner[0]
        if followed.state != "failed":
            return None
        causes = [
            one.address
            for one in followed.of_plan()
            if one.state == "failed" and one.causes == {one.address}
        ]
        return {"first": followed.causes, "count": len(causes), "failures": causes[:20]}
