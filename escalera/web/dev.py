"""One page that shows every component in every state, so that the look is designed once."""

from __future__ import annotations

from flask import Blueprint, render_template
from flask.typing import ResponseReturnValue

from escalera.core.palette.sounds import FAMILIES

blueprint = Blueprint("dev", __name__)


@blueprint.get("/components")
def components() -> ResponseReturnValue:
    return render_template(
        "dev/components.html", families=FAMILIES, states=("full", "part", "thin", "opening", "closing", "empty")
    )
