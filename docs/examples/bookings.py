import sqlite3
from pydantic import BaseModel
from yarnloom import Loom, Outbox, param, step

loom = Loom("bookings")
outbox = Outbox()

@loom.task
def send_ticket(booking: int, boat: str) -> str:
    return f"ticket {booking} for the {boat}"

class Booking(BaseModel):
    booking: int
    boat: str

loom.workflow("send-ticket", params=Booking, plan=step(
    "send", send_ticket, booking=param("booking"), boat=param("boat"),
))

def book(connection: sqlite3.Connection, boat: str) -> str:
    with connection:  # one transaction: both rows, or none
        number = connection.execute("INSERT INTO bookings (boat) VALUES (?)", (boat,)).lastrowid
        return outbox.start(connection, "send-ticket", booking=number, boat=boat)
