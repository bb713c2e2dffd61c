from yarnloom import Failure, Loom, failure, output, sequence, step

loom = Loom("notices")

@loom.task
def make_folder() -> str:
    return "drafts"

@loom.task
def draw(folder: str) -> str:
    raise OSError("the plotter is out of ink")

@loom.task
def tell(failure: Failure) -> str:
    return f"{failure.first.address}: {failure.first.error.message}"

@loom.task
def clean_up(folder: str | None) -> str:
    return f"removed {folder}"

loom.workflow(
    "draw-page",
    plan=sequence(step("folder", make_folder), step("draw", draw, folder=output("folder"))),
    on_failure=step("tell", tell, failure=failure()),
    on_end=step("clean-up", clean_up, folder=output("folder")),
)
