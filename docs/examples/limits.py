from yarnloom import Loom, Rate, Retry, StepContext, TryLater, each, item, param, previous, sequence, step
from pydantic import BaseModel

loom = Loom("limits")
loom.pool("gauge-link", limit=3, note="the gauge office lets three callers in")
loom.pool("post", rate=Rate(10, per="1s"))

class Params(BaseModel):
    harbours: list[str]
    region: str = "north"

@loom.task(
    pool="gauge-link",
    retry=Retry(attempts=4, wait="1s", growth=2, longest="30s", within="5m", on=[OSError]),
    timeout="30s",
)
def fetch(ctx: StepContext, harbour: str) -> int:
    if ctx.tries == 1:
        raise ConnectionError("the line is busy")
    if ctx.tries == 2:
        raise TryLater("5s", "the office opens at nine")
    return len(harbour)

@loom.task(pool="post", per="region", losses=0)
def send(region: str, levels: list[int]) -> str:
    return f"{sum(levels)} to {region}"

loom.workflow(
    "send-levels", params=Params, at_once=1, if_busy="wait", share=param("region"), deadline="2h",
    plan=sequence(
        each("harbours", over=param("harbours"), do=step("fetch", fetch, harbour=item())),
        step("send", send, region=param("region"), levels=previous, priority=5),
    ),
)
