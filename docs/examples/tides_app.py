from datetime import date
from fastapi import FastAPI
from pydantic import BaseModel
from yarnloom import AsyncClient, Loom, each, item, param, previous, sequence, step
from yarnloom.client import RunSummary

loom = Loom("tides-app")

class Params(BaseModel):
    harbours: list[str]
    day: date = date(2027, 1, 1)

@loom.task
def level(harbour: str, day: date) -> float:
    return len(harbour) + day.day / 10

@loom.task
def highest(levels: list[float]) -> float:
    return max(levels)

high_water = loom.workflow(
    "high-water",
    params=Params,
    output=float,
    plan=sequence(
        each("harbours", over=param("harbours"),
             do=step("level", level.of(harbour=item(), day=param("day")))),
        step("highest", highest.of(levels=previous)),
    ),
)

app = FastAPI()

@app.post("/days/{day}")
async def begin(day: date) -> int:
    async with AsyncClient() as client:
        run = await client.start(high_water.of(harbours=["saltmere"], day=day), key=f"{day}")
        return run.number

@app.get("/runs/{number}")
async def look(number: int) -> RunSummary:
    async with AsyncClient() as client:
        run = await client.run(number, of=high_water)
        return run.summary()
