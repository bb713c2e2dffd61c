from pydantic import BaseModel
from yarnloom import FailedItem, Loom, each, failures, item, output, parallel, param, previous, sequence, step

loom = Loom("coast")

class Harbour(BaseModel):
    code: str
    levels: list[float]

class Params(BaseModel):
    harbours: list[Harbour]
    rounded: bool = True

@loom.task
def mean(levels: list[float]) -> float:
    return sum(levels) / len(levels)

@loom.task
def shorten(level: float) -> float:
    return round(level, 1)

@loom.task
def highest(levels: list[float]) -> float:
    return max(levels)

@loom.task
def report(pages: list[dict], missing: list[FailedItem]) -> str:
    return f"{len(pages)} harbours, without {[one.name for one in missing]}"

def figures(levels):                       # a part that can be used again is a function
    return parallel(
        "figures",
        step("mean", mean, levels=levels),
        step("short", shorten, level=output("mean"), only_if=param("rounded")),
        step("highest", highest, levels=levels),
    )

tides_of_coast = loom.workflow("tides-of-coast", params=Params, plan=sequence(
    each("harbours", over=param("harbours"), name=item("code"), may_fail="40%",
         do=figures(item("levels"))),
    step("report", report, pages=output("harbours", only="done"), missing=failures("harbours")),
))
