"""What a person prefers of the window: kept beside the programs' other settings, as JSON."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from platformdirs import user_config_path
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from moss_step.formats.whole import make_folder, write_text
from moss_step.model.errors import MossError

LONGEST = {"scheduler": 300, "shared": 4000}
"""Characters that may be typed for an address, and for a folder."""


class Preferences(BaseModel):
    """Size of text in percent, colours of the window, gigabytes for results (0: half of what is free),
    seconds until a change is copied, and the ramp of new class sets (empty: that of the set). Workers on
    large grounds: none, some of this machine, or (-1) those of a cluster, by the address of its scheduler and
    a folder that all of them see.
    """

    model_config = ConfigDict(frozen=True, extra="ignore", allow_inf_nan=False)

    text: int = Field(100, ge=100, le=200)
    window: Literal["light", "dark"] = "light"
    gigabytes: float = Field(0.0, ge=0.0, le=4096.0)
    copy_after: float = Field(1.5, ge=0.5, le=600.0)
    class_ramp: str = Field("", max_length=40)
    workers: int = Field(0, ge=-1, le=256)
    scheduler: str = Field("", max_length=LONGEST["scheduler"])
    shared: str = Field("", max_length=LONGEST["shared"])


def preferences_file() -> Path:
    """Where preferences are kept."""
    return user_config_path("moss-step") / "preferences.json"


def load(path: Path | None = None) -> Preferences:
    """Read what is preferred; the usual where nothing is kept.

    Raises MossError for a file that cannot be used.
    """
    file = path or preferences_file()
    try:
        return Preferences.model_validate_json(file.read_bytes())
    except FileNotFoundError:
        return Preferences()
    except (OSError, ValidationError) as error:
        raise MossError(
            f"The preferences in {file.name} cannot be used; the usual ones hold.",
            "Choose them anew in Preferences (Ctrl+,).",
        ) from error


def keep(preferences: Preferences, path: Path | None = None) -> None:
    """Write what is preferred, whole or not at all."""
    file = path or preferences_file()
    make_folder(file)
    write_text(file, preferences.model_dump_json(indent=2) + "\n")
