from yarnloom import Loom, param, previous, sequence, step
from pydantic import BaseModel

loom = Loom("first")

@loom.task
def count_words(text: str) -> int:
    return len(text.split())

@loom.task
def describe(words: int) -> str:
    return "short" if words < 100 else "long"

class Params(BaseModel):
    text: str

loom.workflow("describe-text", params=Params, plan=sequence(
    step("count", count_words, text=param("text")),
    step("describe", describe, words=previous),
))
