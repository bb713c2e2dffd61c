from datetime import datetime
from pydantic import BaseModel
from yarnloom import Loom, param, planned_at, sequence, step

loom = Loom("nightly")

@loom.task
def announce(harbour: str, day: datetime) -> str:
    return f"waters of {harbour} after {day:%d %B %Y}"

class Params(BaseModel):
    harbour: str = "brackwater"

announced = loom.workflow("announced", params=Params, plan=sequence(
    step("announce", announce, harbour=param("harbour"), day=planned_at()),
))
loom.schedule(announced.of(), name="each-night", cron="30 2 * * *", zone="Europe/Lisbon", if_busy="skip")
