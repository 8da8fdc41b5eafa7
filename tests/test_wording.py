"""Every code and every event has its words; nothing else makes sentences of them."""

import typing

import pytest

from upright_bolt.kernel.interfaces import arguments
from upright_bolt.model.catalogue import CATALOGUE
from upright_bolt.model.event import ChangedByOthers, Event, ProcessorsChanged
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note
from upright_bolt.sanitize import capital, small
from upright_bolt.text import events, notes
from upright_bolt.text.times import length

PARTICULARS: dict[str, typing.Any] = {
    "folder": "/sys/x", "what": "busy", "path": "/sys/x", "why": "there is no bus", "fault": "gone", "text": "abc",
    "bytes": 9000.0, "mhz": 1600.0, "steps": ("800", "1200"), "held": ("0", "800000", "1", "1200000"),
    "constraint": "long_term", "limit": "sustained", "argument": "nosmt", "states": ("C6",),
    "values": ("15", "18"), "zone": "intel-rapl:0", "kinds": ("P-cores", "800", "5000", "4000"), "low": 3000.0,
    "high": 2000.0, "base": 2400.0, "names": ("power (255)",), "asked": 25.0, "got": 18.0, "state": "locked",
    "wanted": "0xfff7ffff", "now": "0xfff7bfff",
}  # fmt: skip


@pytest.mark.parametrize("code", list(DiagnosticCode))
def test_every_note_has_a_clause_and_a_sentence(code):
    made = note(code, "sustained", **PARTICULARS)
    clause = notes.clause(made)
    assert clause
    assert "{" not in clause
    assert not clause.endswith(".")
    sentence = notes.sentence(made)
    assert sentence.endswith((".", "?"))
    assert sentence[0] == sentence[0].upper()
    about = notes.about("sustained", made)
    assert about.startswith("Sustained limit (PL1): ") or about == sentence


def test_every_pinning_argument_has_words_of_its_own():
    said = {notes.clause(note(DiagnosticCode.KERNEL_ARGUMENT, argument=word)) for word in arguments.PINS}
    assert len(said) == len(arguments.PINS)
    assert "limits what processors may do" in notes.clause(note(DiagnosticCode.KERNEL_ARGUMENT, argument="maxcpus=2"))


def test_no_note_no_sentence():
    assert notes.sentence(None) == ""
    with pytest.raises(KeyError):
        Diagnostic(DiagnosticCode.NOT_OFFERED).particular("zone")


def test_every_event_has_a_sentence():
    kinds = {kind for event in typing.get_args(Event) for kind in typing.get_args(event.__annotations__["kind"])}
    assert len(kinds) == len(typing.get_args(Event))
    assert set(events._SENTENCES) == set(typing.get_args(Event))
    assert events.sentence(ProcessorsChanged(1.0, gone=(3,), back=(1, 2))) == (
        "processor 3 went offline and processors 1, 2 came back"
    )
    assert events.sentence(ChangedByOthers(1.0, "put back", "root")) == "Put back by root"


def test_the_catalogue_has_one_order_of_writing_and_one_of_the_panel():
    for field in ("write_order", "panel_order"):
        numbers = [getattr(declared, field) for declared in CATALOGUE.values()]
        assert len(set(numbers)) == len(numbers)
    for declared in CATALOGUE.values():
        assert {*declared.changes, *declared.checked_with} <= set(CATALOGUE)
        if declared.companion:
            assert CATALOGUE[declared.companion].companion == declared.name


def test_only_the_first_letter_is_raised_or_lowered():
    assert capital("profile At Sea") == "Profile At Sea"
    assert capital("gpu03 voltage offset") == "gpu03 voltage offset"
    assert small("Sustained limit (PL1)") == "sustained limit (PL1)"
    assert (capital(""), small("")) == ("", "")


@pytest.mark.parametrize(
    ("seconds", "said"),
    [(0.4, "0 s"), (99.0, "99 s"), (99.6, "1 min 40 s"), (150.0, "2 min 30 s"), (600.0, "10 min"),
     (3599.0, "59 min 59 s"), (3599.7, "1 h"), (5400.0, "1 h 30 min"), (7200.0, "2 h"), (28530.0, "7 h 56 min"),
     (86400.0, "24 h")],
)  # fmt: skip
def test_a_length_of_time_is_told_in_the_units_that_suit_it(seconds, said):
    assert length(seconds) == said
