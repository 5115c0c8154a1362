"""Lineage as JSON of W3C PROV (PROV-DM, 2013, in its JSON form): sources, steps, results and figures, and
what each came from.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from moss_step import __version__
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study

if TYPE_CHECKING:
    from prov.model import ProvDocument

Attributes = dict[Any, Any]
SPACE = "https://moss-step.example/prov#"
_PROGRAM = "ms:moss-step"


def as_prov(study: Study, refs: Iterable[str], engine: Engine) -> str:
    """The lineage of some results as PROV-JSON; the same study gives the same text.

    A source is an entity with its digest, a step an activity with its settings, a result an entity that the
    step generated and that was derived from what it used; figures are entities derived from their result.
    """
    from prov.model import ProvDocument

    document = ProvDocument()
    document.add_namespace("ms", SPACE)
    document.agent(_PROGRAM, {"prov:type": "prov:SoftwareAgent", "prov:label": f"Moss Step {__version__}"})
    for step in study.needs(refs):
        _add_step(document, study, step, engine)
    return json.dumps(json.loads(str(document.serialize(format="json"))), indent=1, sort_keys=True) + "\n"


def _add_step(document: ProvDocument, study: Study, step: Step, engine: Engine) -> None:
    activity = f"ms:step-{step.id}"
    settings = step.declared.checked(step.settings).model_dump(mode="json")
    about: Attributes = {"prov:label": study.name_of(step.id), "ms:kind": step.kind}
    about |= {
        f"ms:setting-{n}": _text(v) for n, v in settings.items() if n not in step.declared.file_settings
    }
    document.activity(activity, other_attributes=about)
    document.wasAssociatedWith(activity, _PROGRAM)
    used = [f"ms:result-{ref}" for ref in step.inputs.values()]
    for name, ref in step.inputs.items():
        document.used(activity, f"ms:result-{ref}", other_attributes={"prov:role": name})
    for file in step.files:
        used.append(_add_source(document, activity, file, engine))
    for ref in step.refs:
        said = engine.said(study, ref)
        if said is None:
            continue
        entity = f"ms:result-{ref}"
        document.entity(entity, {"prov:label": study.name_of(ref), "ms:is": said.described})
        document.wasGeneratedBy(entity, activity)
        for source in used:
            document.wasDerivedFrom(entity, source, activity)
        for k, finding in enumerate(said.findings):
            figure = f"ms:figure-{ref}-{k + 1}"
            words = f"{finding.of}: {finding.title}" if finding.of else finding.title
            about = {"prov:label": words, "prov:type": "ms:figure", "ms:finding": finding.name}
            about |= {"prov:value": float(finding.value), "ms:unit": finding.unit.key}
            document.entity(figure, about)
            document.wasDerivedFrom(figure, entity)


def _add_source(document: ProvDocument, activity: str, file: str, engine: Engine) -> str:
    mark = hashlib.blake2b(file.encode("utf-8", "backslashreplace"), digest_size=6).hexdigest()
    source = f"ms:source-{mark}"
    digest = engine.file_hash(file)
    about: Attributes = {"prov:label": Path(file).name, "prov:type": "ms:source"}
    document.entity(source, about | ({"ms:blake3": digest} if digest else {}))
    document.used(activity, source)
    return source


def _text(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value)
