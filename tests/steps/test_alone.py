"""A step that is asked for alone is the one of the catalogue, and loads nothing for the others."""

import subprocess
import sys

import pytest

from moss_step.steps.catalogue import _declared_alone, catalogue


@pytest.mark.parametrize("kind", sorted(catalogue()))
def test_it_is_the_one_of_the_catalogue(kind):
    assert _declared_alone(kind) is catalogue()[kind]


@pytest.mark.parametrize("kind", ["", "nothing", "slop", 'slope", x="'])
def test_what_is_not_declared_is_not_found(kind):
    assert _declared_alone(kind) is None


def test_one_step_loads_no_other_module_of_steps():
    code = (
        "import sys; from moss_step.steps.catalogue import step_kind; step_kind('slope')\n"
        "print('moss_step.steps.streams' in sys.modules, 'moss_step.steps.shape' in sys.modules)"
    )
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert ran.stdout.split() == ["False", "True"]
