"""Run the campaign for some minutes from a seed, print what it counted, and write it into the docs when asked.

python -m soak --minutes 60 --seed 1 --report docs/reliability.md
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from soak.child import Child
from soak.files import damaged_files
from soak.hearing import hearing_kills
from soak.kills import kills, shortages, window_kills
from soak.report import OTHERS, text_of
from soak.settings import settings_at_random
from soak.studies import hostile_studies
from soak.tally import Tally
from soak.together import jumping_clocks, two_at_once
from soak.watch import Judge, Listener
from soak.ways import in_other_ways, tile_kills

Campaign = Callable[[Judge, random.Random], Iterator[None]]
CAMPAIGNS: dict[str, tuple[Campaign, float]] = {
    "Settings at random": (settings_at_random, 0.15),
    "Damaged files": (damaged_files, 0.15),
    "Hostile studies": (hostile_studies, 0.06),
    "Kills of `do` and `run`": (kills, 0.17),
    "Kills of the window": (window_kills, 0.17),
    "Kills while it listens": (hearing_kills, 0.04),
    "Full disk, little memory": (shortages, 0.05),
    "The same in other ways": (in_other_ways, 0.06),
    "Kills of runs in tiles": (tile_kills, 0.1),
    "Two at once": (two_at_once, 0.03),
    "Times that jump": (jumping_clocks, 0.02),
}
"""Each with its share of the time: kills are few in a minute."""


def carry_out(name: str, campaign: Campaign, seconds: float, seed: int, most: int | None = None) -> Tally:
    """Run one campaign for some seconds, or some cases."""
    tally, listener = Tally(name), Listener()
    with tempfile.TemporaryDirectory() as folder, Child() as child:
        judge = Judge(Path(folder), tally, child, listener)
        end = time.monotonic() + seconds
        for number, _ in enumerate(campaign(judge, random.Random(seed)), start=1):
            if time.monotonic() > end or number == most:
                break
    listener.close()
    return tally


def main() -> int:
    """Run all campaigns; 1 when there is a fault."""
    parser = argparse.ArgumentParser(prog="soak", description=__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--report", type=Path, help="file of the docs to write the counts into")
    asked = parser.parse_args()
    tallies = []
    for name, (campaign, share) in CAMPAIGNS.items():
        tally = carry_out(name, campaign, asked.minutes * 60.0 * share, asked.seed)
        tallies.append(tally)
        print(f"{name}: {tally.tried:,} tried, {len(tally.faults)} faults, {dict(tally.answers)}", flush=True)
        for kind, what in tally.faults:
            print(f"  {kind}: {what}", flush=True)
    if asked.report:
        before = asked.report.read_text() if asked.report.exists() else ""
        _, heading, others = before.partition(OTHERS)  # what is written of other runs stays
        asked.report.write_text(text_of(tallies, asked.minutes, asked.seed) + heading + others)
    return int(any(t.faults for t in tallies))


if __name__ == "__main__":
    sys.exit(main())
