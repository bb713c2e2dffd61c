"""What is going on: the last hour, and what does not go on by itself."""

from __future__ import annotations

from fastapi.responses import Response

from yarnloom.engine.commands import Recently
from yarnloom.protocol.overview_answers import OverviewAnswer
from yarnloom.service.http.api_router import api_router
from yarnloom.service.route_helpers import TheCore, answer

router = api_router("system")


@router.get("/overview", response_model=OverviewAnswer)
async def overview(core: TheCore) -> Response:
    """The last hour by minute, and the runs that do not go on until somebody does something."""
    stuck, looked_at = await core.runs.stuck()
    minutes = await core.submit(Recently())
    found = {"minutes": minutes, "stuck": stuck, "looked_at": looked_at}
    return answer(OverviewAnswer, found)
