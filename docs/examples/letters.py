from yarnloom import AsyncStepContext, Loom, NotDone, Retry, StepContext, param, parallel, step
from pydantic import BaseModel

loom = Loom("letters")
mailbox: dict[str, str] = {}

class Params(BaseModel):
    names: list[str]

def deliver(token: str, name: str, emptying: bool) -> str:  # stands for a service that knows tokens
    if emptying:
        raise ConnectionRefusedError("the mailbox is being emptied")
    return mailbox.setdefault(token, f"letter to {name}")

@loom.task(retry=Retry(attempts=3, wait="1s"))
def mail(ctx: StepContext, names: list[str]) -> int:
    loop = ctx.track(names, carry={"letters": 0}, note="mailing")
    for name in loop:  # progress, pause, cancel, and going on there
        def send(token: str) -> str:
            try:
                return deliver(token, name, emptying=ctx.tries == 1)
            except ConnectionRefusedError as refused:  # a clear no; silence would not be clear
                raise NotDone(str(refused)) from refused
        ctx.once(f"mail {name}", send, if_unsure="again")  # since this mailbox knows tokens
        loop.carry["letters"] += 1
        ctx.publish({"to": name})
    return loop.carry["letters"]

@loom.task
def watch_tide(ctx: StepContext) -> list[int]:
    seen = [*(ctx.carried or []), len(ctx.carried or [])]
    if len(seen) < 3:
        ctx.call_again("10m", carry=seen)  # ends the attempt, and holds nothing meanwhile
    return seen

@loom.task
async def ring(ctx: AsyncStepContext, names: list[str]) -> int:
    async for name in ctx.track_each(names, every=100):  # saves after each hundred, and waits for it
        await ctx.once(f"ring {name}", lambda: "rang")
    return len(names)

loom.workflow("send", params=Params, plan=parallel(
    "all",
    step("mail", mail, names=param("names")),
    step("tide", watch_tide),
    step("ring", ring, names=param("names")),
))
