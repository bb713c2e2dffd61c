"""The console's types of answers, from the models of `protocol/`."""

from __future__ import annotations

import types
import typing
from collections.abc import Iterator
from datetime import datetime
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel, Discriminator
from pydantic.fields import FieldInfo

from yarnloom.protocol import (
    access_answers,
    fields,
    overview_answers,
    part_answers,
    run_answers,
    setting_answers,
    worker_answers,
    worker_messages,
    workflow_answers,
)
from yarnloom.protocol.answer_fields import Answer

MODULES = (
    *(run_answers, part_answers, overview_answers, setting_answers, worker_answers),
    *(worker_messages, workflow_answers, access_answers),
)
WORDS = {
    "RunState": run_answers.RunStateWord,
    "StepState": run_answers.StepStateWord,
    "Role": fields.Role,
    "SkipReason": run_answers.SkipWord,
}
UNIONS = {"Part": part_answers.PartAnswer}
HEAD = """\
/** Answers of the API: made from `src/yarnloom/protocol` by `make generate`. */

export type Json = null | boolean | number | string | Json[] | { [key: string]: Json };

export type JsonObject = { [key: string]: Json };
"""
_PLAIN = {
    str: "string",
    datetime: "string",
    int: "number",
    float: "number",
    bool: "boolean",
    type(None): "null",
    Any: "Json",
}


def console_types() -> str:
    """Return the text of the file of types."""
    pieces = [HEAD]
    for name, word in WORDS.items():
        members = "".join(f'\n  | "{one}"' for one in get_args(word))
        pieces.append(f"export type {name} ={members};\n")
    for name, union in UNIONS.items():
        members = " | ".join(name_of(one) for one in _members(union))
        pieces.append(f"export type {name} = {members};\n")
    pieces += [_interface(model) for model in _models()]
    return "\n".join(pieces)


def name_of(model: type) -> str:
    """Return the name of a model in the console."""
    return model.__name__.removesuffix("Answer")


def _models() -> Iterator[type[BaseModel]]:
    for module in MODULES:
        for value in vars(module).values():
            is_model = isinstance(value, type) and issubclass(value, Answer)
            if is_model and value.__module__ == module.__name__ and value.model_fields:
                value.model_rebuild()  # of forward references
                yield value


def _interface(model: type[BaseModel]) -> str:
    base = model.__mro__[1]
    inherited = base.model_fields if issubclass(base, BaseModel) else {}
    own = {
        name: field
        for name, field in model.model_fields.items()
        if name not in inherited or _type(inherited[name]) != _type(field)
    }
    extends = ""
    if base is not Answer:
        changed = " | ".join(f'"{name}"' for name in own if name in inherited)
        whole = f"Omit<{name_of(base)}, {changed}>" if changed else name_of(base)
        extends = f" extends {whole}"
    lines = [f"/** {(model.__doc__ or '').split(chr(10) + chr(10))[0].strip()} */"]
    lines.append(f"export interface {name_of(model)}{extends} {{")
    for name, field in own.items():
        if field.description:
            lines.append(f"  /** {field.description} */")
        optional = "" if field.is_required() else "?"
        lines.append(f"  {field.serialization_alias or name}{optional}: {_type(field)};")
    if model.model_config.get("extra") == "allow":
        lines.append("  [name: string]: unknown;")
    return "\n".join([*lines, "}", ""])


def _type(field: FieldInfo) -> str:
    return _text(field.annotation)


def _text(shape: Any) -> str:
    for name, known in {**WORDS, **UNIONS}.items():
        if shape == known:
            return name
    if shape in _PLAIN:
        return _PLAIN[shape]
    if isinstance(shape, type) and issubclass(shape, BaseModel):
        return name_of(shape)
    inner = get_args(shape)
    match get_origin(shape):
        case typing.Annotated:
            return _text(_whole(shape))
        case typing.Union | types.UnionType:
            return " | ".join(dict.fromkeys(_text(one) for one in inner))
        case origin if origin is Literal:
            return " | ".join(f'"{one}"' for one in inner)
        case origin if origin is list:
            item = _text(inner[0])
            return f"({item})[]" if "|" in item else f"{item}[]"
        case origin if origin is tuple:
            return f"[{', '.join(_text(one) for one in inner)}]"
        case origin if origin is dict:
            return "JsonObject" if inner[1] is Any else f"Record<string, {_text(inner[1])}>"
    raise TypeError(f"no type of the console for {shape!r}")


def _whole(shape: Any) -> Any:
    """Return what is annotated; of a record or why it cannot be shown, the record."""
    inner, *marks = get_args(shape)
    if any(isinstance(mark, Discriminator) for mark in marks):
        return get_args(get_args(inner)[0])[0]
    return inner


def _members(union: Any) -> tuple[Any, ...]:
    return get_args(get_args(union)[0])
