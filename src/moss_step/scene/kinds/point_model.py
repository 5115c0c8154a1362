"""Learned classes: they have no place on the plan."""

from __future__ import annotations

from moss_step.model.point_model import PointModel
from moss_step.scene.picture import OffPlanPicture


class PointModelPicture(OffPlanPicture):
    """What was learned, as it is."""

    kind = "point_model"
    value: PointModel
