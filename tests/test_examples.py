"""Every example that the help shows runs as it stands, in a folder with files of these names."""

import itertools
import shlex

import pytest
from tools.site_pages import python_example

from moss_step.cli import main
from moss_step.demo.samples import write_samples
from moss_step.steps.catalogue import catalogue
from moss_step.steps.example import example_of


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    made = tmp_path_factory.mktemp("samples")
    write_samples(made)
    return made


@pytest.mark.parametrize("kind", sorted(catalogue()))
def test_an_example_runs_as_it_stands(folder, monkeypatch, capsys, kind):
    monkeypatch.chdir(folder)
    words = shlex.split(example_of(catalogue()[kind]))
    assert main([*words, "--overwrite"]) == 0, capsys.readouterr().err
    outs = [w.rpartition("=")[2] for before, w in itertools.pairwise(words) if before == "-o"]
    assert all((folder / out).stat().st_size > 0 for out in outs)


@pytest.mark.parametrize("kind", sorted(catalogue()))
def test_a_python_example_runs_as_its_page_shows_it(folder, monkeypatch, kind):
    monkeypatch.chdir(folder)
    text = python_example(catalogue()[kind])
    exec(compile(text, kind, "exec"), {})  # noqa: S102 - our own pages
    assert (folder / text.split('save("')[1].split('"')[0]).stat().st_size > 0
