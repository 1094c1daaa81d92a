"""What would be done to the level of recordings."""

import argparse
from dataclasses import asdict
from pathlib import Path

from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.sentences import steps
from mastering.said import Said, figured
from sermovox.running.speaking import spoken
from sermovox.terminal.complaints import complain
from sermovox.terminal.said import (
    in_options,
    outlet_of,
    print_json,
    takes_files,
    takes_outlet,
)
from sermovox.terminal.shared import plans_of, takes_treatment, treatment_of


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_files(command)
    takes_outlet(command)
    takes_treatment(command)


def run(options) -> int:
    outlet, treatment = outlet_of(options.outlet), treatment_of(options)
    rows, status = [], 0
    for path, plan in plans_of(options, outlet, treatment):
        if not isinstance(plan, LevelPlan):
            status = complain(plan, path)
            continue
        if plan.collisions:
            status = 1
        rows.append({"path": str(path), "steps": dict(steps(plan))} | asdict(plan))
        if not options.json:
            _print_plan(path, plan)
    if options.json:
        print_json(rows)
    return status


def _print_plan(path: Path, plan: LevelPlan) -> None:
    print(path)
    for name, words in steps(plan):
        print(f"  {spoken(name):20} {spoken(words)}")
    for name, value in plan.predicted.items():
        label, kind = spoken(RULE_KINDS[name].label), RULE_KINDS[name]
        print(f"  {label:20} {spoken(figured(f'{value:.2f}')):>8} {kind.unit:5} {spoken(Said('predicted'))}")
    for sentence in (*plan.collisions, *plan.remarks):
        print(f"  {spoken(in_options(sentence))}")
