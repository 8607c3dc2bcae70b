"""The order of changes as a value: played from tables of what happens, without thread, clock or socket."""

from __future__ import annotations

from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus, Draft, GraceAddress, Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.core.addresses import parse_interface_address
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.errors import Refused, Unreachable
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, SKIPPED, VerifyCheck, VerifyResult
from fixed_anchor.workflow.events import (
    Action,
    Answered,
    BaselineTaken,
    Begun,
    Event,
    Failed,
    Heard,
    Interrupted,
    Keep,
    MadeReady,
    Member,
    Outcome,
    TooLate,
    Unanswered,
    Verified,
)
from fixed_anchor.workflow.run import MOVES, OVER, TO_ROLL_BACK, Run


def seen(*outcomes: str) -> VerifyResult:
    made = (VerifyCheck("address-present", True, "h", "eth0", "kernel", "x", "x", one, "why") for one in outcomes)
    return VerifyResult(tuple(made))


def status(state: str, **more: Any) -> ChangeStatus:
    return ChangeStatus("0001", state, "eth0", **({"left": 60} | more))


#: What may happen to a member, by a word.
HAPPENS: dict[str, tuple[type[Event], dict[str, Any]]] = {
    "baseline": (BaselineTaken, {"baseline": Baseline()}),
    "begun": (Begun, {"number": "0001"}),
    "refused": (Failed, {"error": Refused("files were edited")}),
    "activating": (Answered, {"status": status(states.ACTIVATING, left=None)}),
    "waiting": (Answered, {"status": status(states.WAITING)}),
    "decided": (Answered, {"status": status(states.WAITING, decision=states.KEEP)}),
    "confirmed": (Answered, {"status": status(states.CONFIRMED)}),
    "half confirmed": (Answered, {"status": status(states.CONFIRMED, is_incomplete=True)}),
    "rolled back": (Answered, {"status": status(states.ROLLED_BACK, why="nobody confirmed it in time")}),
    "stuck": (Answered, {"status": status(states.STUCK)}),
    "good": (Verified, {"result": seen(PASS)}),
    "bad": (Verified, {"result": seen(PASS, FAIL)}),
    "unseen": (Verified, {"result": seen(PASS, SKIPPED)}),
    "nothing": (Verified, {"result": seen()}),
    "heard": (Heard, {}),
    "too late": (TooLate, {}),
    "silent": (Unanswered, {"error": Unreachable("it is not reached")}),
    "gone": (Unanswered, {"error": Unreachable("it is not reached")}),
}


def happens(word: str, name: str, at: float) -> Event:
    kind, more = HAPPENS[word]
    return kind(name, at + (60 + TO_ROLL_BACK if word == "gone" else 0), **more)


GRACE = (GraceAddress("eth0", parse_interface_address("203.0.113.107/24")),)
DRAFT = Draft("tide-db", "networkd", (), FileContent(("eth0",), ()), ())


def member(name: str = "tide-db", how: str = "") -> Member:
    """One whose terms are told by words: ``anew``, ``grace``, ``looks`` first."""
    draft = Draft("tide-db", "networkd", (), FileContent(("eth0",), ()), (), grace=GRACE if "grace" in how else ())
    terms = Terms(60, bool(how), {}, anew="anew" in how)
    return Member(name, draft, terms, HostSurvey("tide-db", "networkd", (), ()) if "looks" in how else None)


def play(run: Run, words: str, name: str = "tide-db", at: float = 0.0) -> list[str]:
    """Steps the run by what the words say; the names of the actions that it asked for."""
    made: list[Action] = list(run.start())
    for number, word in enumerate(filter(None, words.split("; "))):
        made += run.step(happens(word, name, at + number))
    return [type(action).__name__ for action in made]


#: How it is guarded, what happens, what is asked for meanwhile, and how it ends: state of the change, exit status.
ROWS: dict[str, tuple[str, str, str, str, int]] = {
    "kept by its guard": (
        "unattended", "begun; activating; waiting; good; heard; decided; confirmed",
        "Begin Ask Ask Look GiveVerdict Ask Ask", states.CONFIRMED, 0,
    ),
    "kept by a person": (
        "", "begun; waiting; good; heard; waiting; waiting; confirmed",
        "Begin Ask Look GiveVerdict Ask Ask Ask", states.CONFIRMED, 0,
    ),
    "kept from here, over a new connection": (
        "anew", "begun; waiting; good; heard; heard; confirmed",
        "Begin Ask Look GiveVerdict Keep Ask", states.CONFIRMED, 0,
    ),
    "what was before is looked at first": (
        "looks", "baseline; begun; waiting; good; heard; confirmed",
        "TakeBaseline Begin Ask Look GiveVerdict Ask", states.CONFIRMED, 0,
    ),
    "not as planned": (
        "anew", "begun; waiting; bad; heard; rolled back",
        "Begin Ask Look GiveVerdict Ask", states.ROLLED_BACK, 3,
    ),
    "nothing was seen of it": (
        "anew", "begun; waiting; nothing; heard; waiting; rolled back",
        "Begin Ask Look GiveVerdict Ask Ask", states.ROLLED_BACK, 3,
    ),
    "not all was seen of it": (
        "anew", "begun; waiting; unseen; heard; rolled back", "Begin Ask Look GiveVerdict Ask", states.ROLLED_BACK, 3,
    ),
    "a person kept what is not as planned": (
        "", "begun; waiting; bad; too late; confirmed", "Begin Ask Look GiveVerdict Ask", states.CONFIRMED, 1,
    ),
    "decided while it was looked at": (
        "anew", "begun; waiting; good; too late; confirmed", "Begin Ask Look GiveVerdict Ask", states.CONFIRMED, 0,
    ),
    "decided by somebody else before it was looked at": (
        "", "begun; decided; confirmed", "Begin Ask Ask", states.CONFIRMED, 0,
    ),
    "decided by somebody else as it was to be kept": (
        "anew", "begun; waiting; good; heard; too late; rolled back",
        "Begin Ask Look GiveVerdict Keep Ask", states.ROLLED_BACK, 3,
    ),
    "looked at once more after its grace": (
        "grace", "begun; waiting; good; heard; confirmed; good",
        "Begin Ask Look GiveVerdict Ask Look", states.CONFIRMED, 0,
    ),
    "wrong after its grace": (
        "grace", "begun; waiting; good; heard; confirmed; bad",
        "Begin Ask Look GiveVerdict Ask Look", states.CONFIRMED, 1,
    ),
    "gone after its grace": (
        "grace", "begun; waiting; good; heard; confirmed; silent",
        "Begin Ask Look GiveVerdict Ask Look", states.CONFIRMED, 0,
    ),
    "silent for a time": (
        "", "begun; activating; silent; silent; waiting; good; heard; confirmed",
        "Begin Ask Ask Ask Ask Look GiveVerdict Ask", states.CONFIRMED, 0,
    ),
    "lost while it was looked at": (
        "", "begun; waiting; silent; waiting; good; heard; confirmed",
        "Begin Ask Look Ask Look GiveVerdict Ask", states.CONFIRMED, 0,
    ),
    "lost before its guard had heard": (
        "anew", "begun; waiting; good; silent; waiting; good; heard; heard; confirmed",
        "Begin Ask Look GiveVerdict Ask Look GiveVerdict Keep Ask", states.CONFIRMED, 0,
    ),
    "lost as it was kept, which has arrived": (
        "anew", "begun; waiting; good; heard; silent; confirmed",
        "Begin Ask Look GiveVerdict Keep Ask", states.CONFIRMED, 0,
    ),
    "lost as it was kept, which has not arrived": (
        "anew", "begun; waiting; good; heard; silent; waiting; good; heard; heard; confirmed",
        "Begin Ask Look GiveVerdict Keep Ask Look GiveVerdict Keep Ask", states.CONFIRMED, 0,
    ),
    "not seen again": ("", "begun; waiting; silent; gone", "Begin Ask Look Ask", states.WAITING, 4),
    "refused": ("", "refused", "Begin", states.NOT_BEGUN, 1),
    "not reached as it was to begin": ("looks", "silent", "TakeBaseline", states.NOT_BEGUN, 4),
    "stuck": ("", "begun; waiting; bad; heard; stuck", "Begin Ask Look GiveVerdict Ask", states.STUCK, 5),
    "not wholly kept": (
        "", "begun; waiting; good; heard; half confirmed", "Begin Ask Look GiveVerdict Ask", states.CONFIRMED, 5,
    ),
    "what comes late moves nothing": (
        "anew", "begun; good; heard; waiting; heard; good; heard; begun; heard; confirmed; bad; waiting; heard",
        "Begin Ask Look GiveVerdict Keep Ask", states.CONFIRMED, 0,
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", ROWS)
def test_one(name: str) -> None:
    how, words, actions, state, exit_status = ROWS[name]
    run = Run((member(how=how),))
    assert play(run, words) == actions.split()
    outcome = run.outcome("tide-db")
    assert outcome is not None
    assert (outcome.state, outcome.exit_status, run.is_over) == (state, exit_status, True)


def test_what_was_before_belongs_to_the_terms() -> None:
    run = Run((member(how="looks"),))
    play(run, "baseline")
    assert run.terms("tide-db").judge.before == Baseline()


def test_five_of_which_one_is_lost() -> None:
    """One is rolled back, one confirmed by somebody else, one refused: each ends by itself."""
    names = ("tide-db", "kelp-files", "sonar-vm1", "gannet-ws", "mooring")
    run = Run([member(name) for name in names], at_once=5)
    assert [action.name for action in run.start()] == list(names)
    lives = {
        "tide-db": "begun; waiting; good; heard; confirmed",
        "kelp-files": "begun; waiting; bad; heard; rolled back",
        "sonar-vm1": "begun; activating; silent; gone",
        "gannet-ws": "begun; waiting; decided; good; too late; confirmed",
        "mooring": "refused",
    }
    # Each has its next event in turn.
    for number in range(6):
        for name, words in lives.items():
            word = dict(enumerate(words.split("; "))).get(number)
            if word is not None:
                run.step(happens(word, name, float(number)))
    ends = {name: (outcome.state, outcome.exit_status) for name in names if (outcome := run.outcome(name)) is not None}
    assert ends == {
        "tide-db": (states.CONFIRMED, 0),
        "kelp-files": (states.ROLLED_BACK, 3),
        "sonar-vm1": (states.ACTIVATING, 4),
        "gannet-ws": (states.CONFIRMED, 0),
        "mooring": (states.NOT_BEGUN, 1),
    }
    assert run.is_over


def test_no_more_at_once_than_was_said() -> None:
    run = Run([member(name) for name in ("a", "b", "c")], at_once=2, tolerate=1)
    assert [action.name for action in run.start()] == ["a", "b"]
    assert run.step(happens("begun", "a", 1.0))[0].name == "a"
    (begun,) = run.step(happens("refused", "b", 2.0))
    assert begun.name == "c"
    assert [run.state(name) for name in run.names] == ["watched", "failed", "begun"]


DONE = "begun waiting good heard confirmed"
BACK = "begun waiting bad heard rolled-back"
#: Members in their waves, a wave behind each bar, and after `<` those that one waits for; how each fares, one after the
#: other; how many are tolerated; and what has become of each.
WAVES: dict[str, tuple[str, dict[str, str], int, str]] = {
    "wave by wave": (
        "a | b c | d",
        {"a": DONE, "b": DONE, "c": DONE, "d": DONE},
        0,
        "a ended, b ended, c ended, d ended",
    ),
    "the next wave waits": ("a | b", {"a": "begun waiting good heard waiting"}, 0, "a watched, b planned"),
    "so does that of which one is over": ("a b | c", {"a": DONE, "b": "begun"}, 0, "a ended, b watched, c planned"),
    "one that is rolled back ends it": ("a b | c | d", {"a": BACK, "b": DONE}, 0, "a ended, b ended, c held, d held"),
    "one that is not begun ends it": ("a | b", {"a": "refused"}, 0, "a failed, b held"),
    "one that is lost ends it": ("a | b", {"a": "begun activating silent gone"}, 0, "a failed, b held"),
    "one that is stuck ends it": ("a | b", {"a": "begun stuck"}, 0, "a ended, b held"),
    "what is under way goes on": ("a b | c", {"b": "begun", "a": BACK}, 0, "a ended, b watched, c held"),
    "one is tolerated": ("a | b | c", {"a": BACK, "b": DONE, "c": BACK}, 1, "a ended, b ended, c ended"),
    "two are not": ("a | b | c | d", {"a": BACK, "b": BACK}, 1, "a ended, b ended, c held, d held"),
    "who waits for it is held": ("a | b<a c | d<b", {"a": BACK, "c": DONE}, 9, "a ended, b held, c ended, d held"),
    "who waits for one that is good is not": ("a | b<a", {"a": DONE, "b": DONE}, 0, "a ended, b ended"),
    "half of it is not good": ("a | b", {"a": "begun waiting good heard half-confirmed"}, 0, "a ended, b held"),
    "it is drafted in its turn": ("a | b!", {"a": DONE, "b": "made-ready baseline begun"}, 0, "a ended, b watched"),
    "it cannot be drafted": ("a! | b", {"a": "refused"}, 0, "a failed, b held"),
    "it does not answer when its turn has come": ("a! | b", {"a": "silent"}, 0, "a failed, b held"),
}


@pytest.mark.parametrize("name", WAVES)
def test_waves(name: str) -> None:
    text, fares, tolerate, wanted = WAVES[name]
    members = []
    for number, wave in enumerate(text.split(" | ")):
        for word in wave.split():
            one, _, after = word.partition("<")
            made = msgspec.structs.replace(member(one.rstrip("!")), wave=number, after=tuple(filter(None, [after])))
            members.append(msgspec.structs.replace(made, draft=None) if one.endswith("!") else made)
    run = Run(members, at_once=2, tolerate=tolerate)
    begun = [action.name for action in run.start()]
    for one, words in fares.items():
        for at, word in enumerate(words.split()):
            assert one in begun, f"{one} has not begun"
            if word == "made-ready":
                actions = run.step(MadeReady(one, float(at), member(one, "looks")))
            else:
                actions = run.step(happens(word.replace("-", " "), one, float(at)))
            begun += [action.name for action in actions]
    assert ", ".join(f"{one} {run.state(one)}" for one in run.names) == wanted
    held = [outcome for one in run.names if (outcome := run.outcome(one)) is not None and outcome.is_held]
    assert all(outcome.why and outcome.exit_status == 1 for outcome in held)


def test_nothing_begins_that_might_not_end_within_the_window() -> None:
    """A deadline of 60 s, and 120 s to roll back after it."""
    members = [msgspec.structs.replace(member(name), wave=wave) for wave, name in enumerate("abc")]
    run = Run(members, until=400.0)
    assert [action.name for action in run.start(100.0)] == ["a"]
    begun = [run.step(happens(word, "a", at)) for word, at in (("begun", 101.0), ("waiting", 150.0), ("good", 160.0))]
    assert all(action.name == "a" for actions in begun for action in actions)
    run.step(happens("heard", "a", 170.0))
    assert [action.name for action in run.step(happens("confirmed", "a", 220.0))] == ["b"]
    for word in ("begun", "waiting", "good", "heard"):
        run.step(happens(word, "b", 221.0))
    assert run.step(happens("confirmed", "b", 221.0)) == ()
    held = run.outcome("c")
    assert held is not None
    assert (held.is_held, held.why, run.is_over) == (True, "it might not have ended within the window", True)


@pytest.mark.parametrize("after", range(9))
def test_an_interrupt_at_each_state(after: int) -> None:
    """Nobody watches any more, and nothing is done: the guard goes on."""
    words = ["baseline", "begun", "activating", "waiting", "good", "heard", "heard", "confirmed"]
    run = Run((member(how="anew grace looks"),))
    play(run, "; ".join(words[:after]))
    before = run.state("tide-db")
    assert before not in OVER
    assert run.step(Interrupted("", 60.0)) == ()
    outcome = run.outcome("tide-db")
    assert outcome is not None
    assert (outcome.is_left, outcome.exit_status, run.is_over) == (True, 130, True)
    for word in HAPPENS:
        assert run.step(happens(word, "tide-db", 61.0)) == ()


def test_the_moves_are_those_of_the_page() -> None:
    """The table at the head of the module has each state, and every state is reached."""
    import fixed_anchor.workflow.run as module

    for state in MOVES:
        assert f"``{state}``" in (module.__doc__ or "")
    assert {to for moves in MOVES.values() for to in moves} == set(MOVES) - {"planned"}


WORDS = st.sampled_from(sorted(HAPPENS))
LIVES = st.lists(st.tuples(st.sampled_from(("a", "b", "c")), WORDS), max_size=60)


@given(LIVES, st.integers(1, 3))
def test_no_order_of_events_decides_twice_or_keeps_what_was_not_verified(
    lives: list[tuple[str, str]], at_once: int
) -> None:
    hows = {"a": "anew", "b": "anew grace looks", "c": ""}
    run = Run([member(name, how) for name, how in hows.items()], at_once)
    run.start()
    #: Of each member whether a verification was good since it last said that nothing is decided.
    verified: dict[str, bool] = {}
    for number, (name, word) in enumerate(lives):
        was = run.state(name)
        actions = run.step(happens(word, name, float(number)))
        if word == "waiting" and was == "watched":
            verified[name] = False
        if word in ("good", "bad", "unseen", "nothing") and was == "looked at":
            verified[name] = word == "good"
        for action in actions:
            if isinstance(action, Keep):
                assert (action.name, verified.pop(action.name, False)) == (name, True)
                assert "anew" in hows[name]
        under_way = [one for one in run.names if run.state(one) not in ("planned", *OVER)]
        assert len(under_way) <= at_once
        for one in run.names:
            outcome = run.outcome(one)
            assert (outcome is not None) is (run.state(one) in OVER)
            assert not isinstance(outcome, Outcome) or outcome.error is not None or outcome.state in states.STATES
