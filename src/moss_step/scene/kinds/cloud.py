"""Clouds: kept and listed; they are not drawn on the plan."""

from __future__ import annotations

from moss_step.model.cloud import Cloud
from moss_step.scene.picture import OffPlanPicture


class CloudPicture(OffPlanPicture):
    """A cloud as it is."""

    kind = "cloud"
    value: Cloud
