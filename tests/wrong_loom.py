"""A loom with three mistakes."""

from yarnloom import Loom, param, sequence, step

loom = Loom("wrong")


@loom.task
def shout(words: str) -> str:
    """Louder."""
    return words.upper()


loom.workflow(
    "w",
    plan=sequence(
        step("a", shout, words=3), step("b", shout, words=param("words")), step("x", len, words="w")
    ),
)
