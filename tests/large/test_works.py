"""Which steps go in tiles: each way is there, and belongs to a step."""

import pytest

from moss_step.large import works
from moss_step.large.works import way_of, work_of
from moss_step.steps.catalogue import is_step


@pytest.mark.parametrize("kind", sorted(works._WAYS))
def test_each_way_in_tiles_is_that_of_a_step_and_can_be_loaded(kind: str) -> None:
    assert is_step(kind) and callable(work_of(kind))


def test_a_step_without_a_way_in_tiles_has_none() -> None:
    assert work_of("slope") is None and way_of("slope") == works.Way()
