"""`python -m bench --grants N`: builds a register of that size and prints each ratio to its floor, in one run.

Ratios only: machines are shared and noisy. The floor of each line is measured beside it, on the same rows.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
from collections.abc import Callable
from pathlib import Path

from bench import ending, exposing, finding, measures, reviewing, signalling
from bench.measures import Bench, Result
from bench.registers import register
from bench.world import Size

MEASURES: tuple[Callable[[Bench], Result], ...] = (
    measures.importing,
    measures.every_rule,
    measures.one_change,
    measures.one_change_of_what_is_given,
    measures.who_reaches_an_account,
    measures.can_one_person,
    measures.what_a_person_reaches,
    measures.the_matrix_of_an_account,
    measures.a_page_over_http,
    measures.revoke_until_confirmed,
    ending.a_large_plan,
    ending.reading_many_roles,
    ending.comparing,
    reviewing.opening_a_round,
    reviewing.a_page_of_items,
    reviewing.writing_while_it_closes,
    finding.searching,
    finding.merging_people,
    exposing.everything_that_is_open,
    exposing.a_draft_of_a_large_account,
    signalling.from_revoke_to_signal,
    signalling.webhooks_to_one_that_fails,
    measures.memory,
)


def main() -> None:
    """Measure everything, and print a table of ratios."""
    parser = argparse.ArgumentParser(prog="python -m bench", description=__doc__)
    parser.add_argument("--grants", type=int, default=100_000, help="how many grants (default 100,000)")
    parser.add_argument("--keep", type=Path, help="a folder that keeps the register, for further runs on the same")
    parser.add_argument("--only", default="", help="measure only what is named, with commas")
    chosen = parser.parse_args()
    with register(Size(chosen.grants), chosen.keep) as (bench, is_filled):
        print(f"{chosen.grants:,} grants, {os.cpu_count()} cores, Python {platform.python_version()}", flush=True)
        print(f"{'work':44} {'ratio':>8} {'aim':>6}  floor", flush=True)
        for measure in MEASURES:
            wanted = not chosen.only or any(name in measure.__name__ for name in chosen.only.split(","))
            needless = is_filled or _by_themselves(chosen.only)
            if needless if measure is measures.importing else not wanted:
                continue
            result = measure(bench)
            if measure is measures.importing:
                (bench.folder / "filled").write_bytes(bench.key.encode())
            print(f"{result.work:44} {result.ratio:8.2f} {result.aim:6.1f}  {result.floor}", flush=True)
            for note in result.notes:
                print(f"{'':61}{note}", flush=True)
            bench.results.append(result)
        kept = Path("bench/results")
        kept.mkdir(parents=True, exist_ok=True)
        (kept / f"{chosen.grants}.json").write_text(json.dumps([r.__dict__ for r in bench.results], indent=2))


# What brings its own grants, and needs no register that is filled before.
_ALONE = (
    measures.revoke_until_confirmed,
    ending.a_large_plan,
    ending.reading_many_roles,
    ending.comparing,
    finding.searching,
    finding.merging_people,
    exposing.everything_that_is_open,
    exposing.a_draft_of_a_large_account,
)


def _by_themselves(only: str) -> bool:
    """Whether nothing is to be measured but what needs no filled register."""
    named = [name for name in only.split(",") if name]
    return bool(named) and all(any(name in one.__name__ for one in _ALONE) for name in named)


if __name__ == "__main__":
    main()
