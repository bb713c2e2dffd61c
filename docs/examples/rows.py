from yarnloom import File, Loom, Rows, StepContext, each, item, output, param, sequence, step
from pydantic import BaseModel, Field

loom = Loom("rows")

class Contact(BaseModel):
    harbour: str = Field(min_length=1)
    address: str
    copies: int = Field(1, ge=1, le=9)

class Params(BaseModel):
    contacts: Rows[Contact]  # a CSV file, checked whole before the run starts

@loom.task
def write(contact: Contact) -> str:
    return f"To {contact.address}: high water at {contact.harbour} is at six."

@loom.task
def bind(ctx: StepContext, letters: Rows[str]) -> File:
    text = "\n".join(ctx.track(letters))  # gone through one at a time, however many they are
    return ctx.save_file(text.encode(), "letters.txt")  # a path, or bytes

@loom.task
def count_words(letters: File) -> int:
    with letters.open("r") as lines:  # or path(), read_bytes(), read_text(); fetched at first use
        return sum(len(line.split()) for line in lines)

loom.workflow("letters", params=Params, plan=sequence(
    each("letters", over=param("contacts"), name=item("harbour"), do=step("write", write, contact=item())),
    step("bind", bind, letters=output("letters")),
    step("count", count_words, letters=output("bind")),
))
