"""Claims that are proven again without each of what can fail: what is said is so of a network that is written without it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

import mossy_compass as mc
from mossy_compass.lab import without
from mossy_compass.lab.claims import Claim, claim_of
from mossy_compass.lab.faults import Fault, apply
from mossy_compass.lab.proofs import Proof
from mossy_compass.lab.prove import prove
from mossy_compass.lab.sweep import failures
from mossy_compass.lab.without import asked_of, prove_each, withstood
from mossy_compass.report import withouttext
from tests.conftest import DATA
from tests.test_cli import mossy

GUARDED = """\
mossy-network: 1
lists: {to-rack: [{id: 10, permit: tcp, service: https}]}
devices:
  room: {kind: router, interfaces: {desks: 10.40.1.1/24, front: 10.40.8.1/30, side: 10.40.9.1/30},
         routes: [{prefix: 10.40.2.0/24, next-hop: 10.40.8.2}, {prefix: 10.40.2.0/24, next-hop: 10.40.9.2, preference: 200}]}
  guard: {kind: router, interfaces: {front: {address: 10.40.8.2/30, filter: {arriving: to-rack}}, rack: 10.40.2.1/24},
          routes: [{prefix: default, next-hop: 10.40.8.1}]}
  back-door: {kind: router, interfaces: {side: 10.40.9.2/30, rack: 10.40.2.2/24}, routes: [{prefix: default, next-hop: 10.40.9.1}]}
  ann: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  store: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [https, ssh]}
segments: {desks: [room/desks, ann], front: [room/front, guard/front], side: [room/side, back-door/side], rack: [guard/rack, back-door/rack, store]}
"""
GUARD = "ann never reaches store except https"


def network() -> mc.Network:
    found = mc.read_bytes(GUARDED.encode(), "n.yaml").network
    assert found is not None
    return found


def asked(folder: Path, *words: str) -> tuple[int, Any]:
    (folder / "n.yaml").write_text(GUARDED)
    done = mossy(folder, "prove", "n.yaml", *words, "--format", "json")
    assert done.returncode in (0, 1), done.stderr
    return done.returncode, json.loads(done.stdout)


def test_a_back_door_that_opens_when_the_front_fails_is_found(tmp_path: Path) -> None:
    assert asked(tmp_path, GUARD)[0] == 0
    code, (found,) = asked(tmp_path, GUARD, "--fail", "each-link", "--fail", "each-device")
    assert code == 1
    assert found["now"]["holds"] is True
    assert found["holds"] is False
    broken = {tuple(t["failures"]): t["proof"] for t in found["without"] if t["holds"] is False}
    assert set(broken) == {("link front",), ("device guard",)}
    assert {tuple(t["failures"]) for t in found["without"] if t["holds"]} == {
        ("link desks",), ("link side",), ("link rack",), ("device room",), ("device back-door",)
    }  # fmt: skip
    for proof in broken.values():
        assert proof["against"][0]["services"] == ["ssh"], "what is listened for comes before ports that are closed"
        there = proof["against"][0]["journey"]["legs"][0]
        assert [hop["device"] for hop in there["hops"]] == ["ann", "room", "back-door", "store"]
    words = " ".join(mossy(tmp_path, "prove", "n.yaml", GUARD, "--fail", "each-link").stdout.split())
    assert words.startswith(f"{GUARD}: NOT ALWAYS. As things are it holds, but not without link front (1 of 4 failures).")
    assert "without then link front NO. ann reaches 10.40.2.10" in words
    assert "One of them, without link front: ann → 10.40.2.10 (store)" in words


def test_what_holds_whatever_fails_is_a_yes_and_what_does_not_hold_is_not_tried_further(tmp_path: Path) -> None:
    code, (found, other) = asked(tmp_path, "store never reaches ann for ssh", "ann never reaches store", "--fail", "each-device")
    assert code == 1
    assert (found["holds"], other["holds"]) == (False, False)
    assert other["without"] == []
    assert not found["now"]["holds"]
    words = " ".join(mossy(tmp_path, "prove", "n.yaml", "ann never reaches store", "--fail", "each-device").stdout.split())
    assert words.startswith(
        "ann never reaches store: NO. ann reaches 10.40.2.10. No failure was tried, since it does not hold even now. by "
    )
    done = mossy(tmp_path, "prove", "n.yaml", "ann reaches store for https", "--fail", "each-interface", "--pairs")
    assert done.returncode == 1, done.stdout
    assert " link " not in done.stdout
    text = GUARDED.replace("filter: {arriving: to-rack}", "about: open").replace(
        "side: 10.40.9.2/30, rack", "side: {address: 10.40.9.2/30, filter: {arriving: to-rack}}, rack"
    )
    (tmp_path / "n.yaml").write_text(
        text.replace("permit: tcp, service: https", "deny: any").replace(
            "address: 10.40.8.2/30, about", "address: 10.40.8.2/30, filter: {arriving: to-rack}, about"
        )
    )
    done = mossy(tmp_path, "prove", "n.yaml", "ann never reaches store", "--fail", "each-link", "--pairs")
    assert (done.returncode, done.stdout.split("\n")[0]) == (
        0,
        "ann never reaches store: YES, whatever packet is sent, and after each of 10 failures.",
    )


def test_what_cannot_be_asked_after_a_failure_is_not_known(monkeypatch: pytest.MonkeyPatch) -> None:
    claims, whole, cases = [claim_of(GUARD)], network(), [(Fault("link", "desks"),), (Fault("link", "front"),)]
    now = prove_each(whole, claims, asked_of(claims, [()]))

    def refused(plan: mc.Plan, claim: Claim, watch: object) -> Proof:
        """As where nobody is meant any more."""
        raise mc.QuestionError("nobody is meant.\nand more")

    with monkeypatch.context() as patched:
        patched.setattr(without, "prove", refused)
        unknown = prove_each(whole, claims, asked_of(claims, cases[:1]))
        with pytest.raises(mc.QuestionError):
            prove_each(whole, claims, asked_of(claims, [()]))
    assert [(t.holds, t.error) for t in unknown] == [(None, "nobody is meant.")]
    (found,) = withstood(claims, now, unknown)
    assert found.holds is None
    assert (
        withouttext.head(found)
        == f"{GUARD}: NOT KNOWN without link desks; it holds as things are, and nothing against it was walked."
    )
    (found,) = withstood(claims, now, [*unknown, *prove_each(whole, claims, asked_of(claims, cases[1:]))])
    assert found.holds is False
    assert [t.words for t in found.without] == ["link desks", "link front"]
    both = unknown[0]._replace(faults=(Fault("link", "bank"), Fault("link", "desks")))
    assert [len(t.faults) for t in withstood(claims, now, [both, *unknown])[0].without] == [1, 2]
    assert "not without link front (1 of 2 failures)" in withouttext.head(found)
    doubtful = found._replace(now=found.now._replace(left=("somebody",)))
    assert doubtful.holds is False
    assert withouttext.head(doubtful) == f"{GUARD}: NO, not without link front; as things are it is not known."


@pytest.mark.parametrize("words", [GUARD, "ann reaches store for https", "guard never reaches store for ssh"])
def test_each_is_what_a_network_says_that_is_written_so(words: str) -> None:
    whole, claims = network(), [claim_of(words)]
    cases = failures(whole, ["link", "device"], True)
    for tried in prove_each(whole, claims, asked_of(claims, cases)):
        alone = prove(apply(whole, tried.faults), claims[0])
        assert tried.proof is not None
        assert (tried.holds, tried.proof.kinds, tried.proof.reasons) == (alone.holds, alone.kinds, alone.reasons), tried.words
        assert [(a.source, a.target, a.services) for a in tried.proof.against] == [
            (a.source, a.target, a.services) for a in alone.against
        ]


def test_probes_have_settled_by_then() -> None:
    """An uplink that a probe finds dead is not in use after the failure, as in a network that was always so."""
    whole, claims = mc.load(DATA / "fernhollow.yaml"), [claim_of("kiosk-1 reaches almanac for https")]
    upstream = (Fault("device", "upstream"),)
    (tried,) = prove_each(whole, claims, [(0, upstream)])
    assert tried.proof is not None
    assert tried.proof.kinds == prove(apply(whole, upstream), claims[0]).kinds


def test_pairs_are_about_failures(tmp_path: Path) -> None:
    (tmp_path / "n.yaml").write_text(GUARDED)
    done = mossy(tmp_path, "prove", "n.yaml", GUARD, "--pairs")
    assert done.returncode == 2
    assert "say what, with --fail" in done.stderr


def test_a_claim_that_nobody_is_meant_by_is_an_error_in_parts_too() -> None:
    demo = str(DATA / "fernhollow.yaml")
    for more in ([], ["--jobs", "2"]):
        done = mossy(Path.cwd(), "prove", demo, "nobody never reaches ledger", "kiosks never reach ledger", *more)
        assert done.returncode == 2
        assert "there is no 'nobody'" in done.stderr, done.stderr
