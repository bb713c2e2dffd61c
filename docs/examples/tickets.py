from pydantic import BaseModel
from yarnloom import Loom, Use, choose, failure, item, each, output, param, sequence, step, text

loom = Loom("tickets")
loom.pool("press", limit=3, note="three trays; a poster takes two")
loom.pool("post-office", limit=1)

class Guest(BaseModel):
    name: str
    seats: int
    way: str

class Params(BaseModel):
    guests: list[Guest]
    office: str = "north"

@loom.task
def reserve(name: str, seats: int) -> dict[str, int]:
    if seats > 6:
        raise ValueError("the boat has six seats")
    return {"first": 1, "seats": seats}

@loom.task
def put_on_list(name: str, why: str) -> dict[str, int]:
    return {"first": 0, "seats": 0}

@loom.task(pool="press")
def print_ticket(lines: list[str]) -> str:
    return " / ".join(lines)

@loom.task
def mail(ticket: str, to: dict[str, str]) -> str:
    return f"mailed to {to['name']}: {ticket}"

@loom.task
def keep(ticket: str) -> str:
    return f"kept at the desk: {ticket}"

loom.workflow(
    "send-tickets", params=Params, at_once=1, per=param("office"), key_for="1d",
    plan=each("guests", over=param("guests"), name=item("name"), do=sequence(
        step("seats", reserve, name=item("name"), seats=item("seats"),
             instead=step("list", put_on_list, name=item("name"), why=failure()["first"]["error"]["message"])),
        step("print", print_ticket, pools={"press": 2, "post-office": Use(1, per=param("office"))},
             lines=[text("For {name}", name=item("name")), text("{n} seats", n=output("seats")["seats"])],
             only_if=(output("seats")["seats"] > 0) & ~item("way").is_in(["none"])),
        choose("send", by=item("way"),
               when={"post": step("mail", mail, ticket=output("print", default="no ticket"), to={"name": item("name")})},
               otherwise=step("keep", keep, ticket=output("print", default="no ticket"))),
    )),
)
