"""Slips of people who type a plan: each is told in one run, at the line of the wrong thing."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
import yaml

from fixed_anchor.core.errors import InputError, InputErrors
from fixed_anchor.planfile.reader import plan_from_text

TABLE = yaml.safe_load((Path(__file__).parent / "mistyped_plans.yaml").read_text())


def errors_of(text: str) -> tuple[InputError, ...]:
    with pytest.raises(InputError) as raised:
        plan_from_text(text, "plan.yaml")
    return raised.value.errors if isinstance(raised.value, InputErrors) else (raised.value,)


@pytest.mark.parametrize("slip", TABLE["slips"], ids=lambda slip: slip["errors"][0])
def test_every_error_in_one_run_at_its_line(slip: dict[str, Any]) -> None:
    text = TABLE["plan"]
    plan_from_text(text, "plan.yaml")
    for old, new in slip["change"].items():
        assert old in text
        text = text.replace(old, new, 1)
    told = [(error.line or 0, str(error)) for error in errors_of(text)]
    wanted = [words.split(": ", 1) for words in slip["errors"]]
    assert [line for line, _ in told] == [int(line) for line, _ in wanted], told
    for (_, said), (_, words) in zip(told, wanted, strict=True):
        # A dollar sign stands for the end.
        assert words.lower() in f"{said}$".lower()


def test_there_are_enough_of_them() -> None:
    assert len(TABLE["slips"]) >= 60
