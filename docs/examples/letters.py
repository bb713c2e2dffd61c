from yarnloom import AsyncStepContext, Loom, NotDone, Retry, StepContext, param, parallel, step
from pydantic import BaseModel

loom = Loom("letters")
mailbox: dict[str, str] = {}

class Params(BaseModel):
    names: list[str]

@loom.task(retry=Retry(attempts=3, wait="1s"))
def mail(ctx: StepContext, names: list[str]) -> int:
    for name in ctx.track(names, note="mailing"):  # progress, pause, cancel, and going on there
        def send(token: str) -> str:
            if ctx.tries == 1:
                raise NotDone("the mailbox is being emptied")  # certain that nothing happened
            return mailbox.setdefault(token, f"letter to {name}")
        ctx.once(f"mail {name}", send, if_unsure="again")  # since this mailbox knows tokens
        ctx.count(added=1)
        ctx.publish({"to": name})
    return len(names)

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
