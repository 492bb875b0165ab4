"""Pictures: nothing stands on anything else, and the same network gives the same bytes."""

from __future__ import annotations

import itertools
import struct
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given

import mossy_compass as mc
from mossy_compass.cli.files import DEMO
from mossy_compass.lab.lab import Flow, Lab
from mossy_compass.report import drawing, layout, sheet
from mossy_compass.walk.question import Options
from tests.conftest import DATA
from tests.effort import examples
from tests.test_laws import networks


def sixty() -> mc.Network:
    """Two spines, six leaves, 48 hosts, one cable cut."""
    b = mc.Builder("sixty")
    for s in range(2):
        ports: dict[str, Any] = {f"p{n}": f"10.{40 + s}.{n}.1/30" for n in range(6)}
        b.router(f"spine-{s + 1}", **ports)
    for n in range(6):
        b.router(f"leaf-{n + 1}", up1=f"10.40.{n}.2/30", up2=f"10.41.{n}.2/30", down=f"10.44.{n}.1/24")
        names = [f"host-{n + 1}-{h + 1}" for h in range(8)]
        for h, name in enumerate(names):
            b.host(name, f"10.44.{n}.{10 + h}/24", gateway=f"10.44.{n}.1")
        b.segment(f"a{n}", f"spine-1/p{n}", f"leaf-{n + 1}/up1")
        b.segment(f"b{n}", f"spine-2/p{n}", f"leaf-{n + 1}/up2", state="down" if n == 3 else "up")
        b.segment(f"hall-{n + 1}", f"leaf-{n + 1}/down", *names)
    return b.finish()


@pytest.fixture(scope="module")
def large() -> sheet.Picture:
    return layout.place(sixty())


def crowding(picture: sheet.Picture) -> list[tuple[str, str]]:
    boxes = [(b.name, b.rect) for b in picture.boxes.values()]
    labels = [(n.words, n.rect) for n in picture.labels]
    over = [(a, b) for a, r in labels for b, s in boxes if r.overlaps(s)]
    over += [(a, b) for n, (a, r) in enumerate(labels) for b, s in labels[n + 1 :] if r.overlaps(s)]
    return over + [(a, b) for n, (a, r) in enumerate(boxes) for b, s in boxes[n + 1 :] if r.overlaps(s)]


def test_no_label_overlaps_in_the_demo(demo: mc.Plan) -> None:
    picture = layout.place(demo.network)
    assert crowding(picture) == []


def test_sixty_devices_stay_legible(large: sheet.Picture) -> None:
    assert crowding(large) == []
    assert len(large.home) == 56


def test_everything_is_on_the_paper(large: sheet.Picture) -> None:
    for rect in [b.rect for b in large.boxes.values()] + [n.rect for n in large.labels]:
        assert rect.w / 2 <= rect.x <= large.width - rect.w / 2
        assert rect.h / 2 <= rect.y <= large.height - rect.h / 2


def test_down_things_are_marked(large: sheet.Picture) -> None:
    assert [n.segment for n in large.lines if n.why_down] == ["b3"]
    assert any("[cut]" in n.words for n in large.labels)


@pytest.mark.parametrize("form", ["png", "svg"])
def test_the_same_bytes_each_time(demo: mc.Plan, form: str) -> None:
    journey = mc.trace(demo, "kiosk-1", "almanac")
    once, again = (drawing.render(layout.place(demo.network), "t", form, journey) for _ in range(2))
    assert once == again
    assert once[:4] == (b"\x89PNG" if form == "png" else b"<?xm")
    if form == "svg":
        for name in demo.network.devices:
            assert name.encode() in once
        assert b">dropped<" in once


def test_too_much_for_one_picture_is_refused_with_a_way_out(tmp_path: Path) -> None:
    from click.testing import CliRunner

    from mossy_compass.cli.main import main

    file = tmp_path / "many.yaml"
    devices = "".join(f"  r{n}: {{kind: router, interfaces: {{a: 10.40.{n}.1/24}}}}\n" for n in range(170))
    segments = "".join(f"  s{n}: [r{n}/a]\n" for n in range(3))
    file.write_text(f"mossy-network: 1\ndevices:\n{devices}segments:\n{segments}")
    refused = CliRunner().invoke(main, ["draw", str(file), str(tmp_path / "x.png")])
    assert isinstance(refused.exception, mc.InputError)
    assert "173 devices and segments are too many for one legible picture" in str(refused.exception)
    assert CliRunner().invoke(main, ["draw", str(file), str(tmp_path / "x.png"), "--around", "r0"]).exit_code == 0


def test_only_what_is_near(demo: mc.Plan) -> None:
    near = layout.around(demo.network, "glen", 1)
    assert near == {"glen", "canopy", "sensor-fern", "sensor-orchid"}
    assert set(layout.place(demo.network, near).home) == near


def test_sixty_routers_that_all_meet_in_two_keep_their_boxes_and_labels() -> None:
    """It is a tall picture, and says so; nothing is left out."""
    b = mc.Builder("dense")
    for s in range(2):
        ports: dict[str, Any] = {f"p{n}": f"10.{40 + s}.{n}.1/30" for n in range(58)}
        b.router(f"spine-{s}", **ports)
    for n in range(58):
        b.router(f"leaf-{n}", u0=f"10.40.{n}.2/30", u1=f"10.41.{n}.2/30")
        for s in range(2):
            b.segment(f"c{s}-{n}", f"spine-{s}/p{n}", f"leaf-{n}/u{s}", state="down" if n == 7 else "up")
    picture = layout.place(b.finish())
    assert crowding(picture) == []
    assert len([n for n in picture.labels if "[cut]" in n.words]) == 2
    assert b"--around DEVICE" in drawing.render(picture, "dense", "svg")


def touching(picture: sheet.Picture) -> list[tuple[str, str]]:
    """Lines that go through a label, or through a box that is none of their ends."""
    out = []
    for line in picture.lines:
        for (ax, ay), (bx, by) in itertools.pairwise(line.points):
            piece = sheet.Rect((ax + bx) / 2, (ay + by) / 2, abs(bx - ax), abs(by - ay))
            out += [(line.segment, n.words) for n in picture.labels if piece.overlaps(n.rect)]
            out += [
                (line.segment, k) for k, b in picture.boxes.items() if k not in (line.start, line.end) and piece.overlaps(b.rect)
            ]
    return out


def crossings(picture: sheet.Picture) -> int:
    """How often upright pieces of lines cross level ones of others."""
    pieces = [(n, p) for n, line in enumerate(picture.lines) for p in itertools.pairwise(line.points)]
    upright = [(n, a[0], *sorted((a[1], b[1]))) for n, (a, b) in pieces if a[0] == b[0] and a[1] != b[1]]
    level = [(n, a[1], *sorted((a[0], b[0]))) for n, (a, b) in pieces if a[1] == b[1]]
    return sum(n != m and low < y < high and left < x < right for n, x, low, high in upright for m, y, left, right in level)


DEMO_JOURNEYS = [(s, g, w) for _, s, g, w, _ in DEMO]


@pytest.mark.parametrize("sender, target, service", DEMO_JOURNEYS)
def test_every_journey_of_the_demo_fits_a_screen(demo: mc.Plan, sender: str, target: str, service: str) -> None:
    journey = mc.trace(demo, sender, target, service)
    picture = layout.place(demo.network)
    assert size(drawing.render(picture, demo.network.title, "png", journey)) <= (1280, 800)
    for words, rect in badges(picture, journey):
        assert rect.x + rect.w / 2 <= picture.width, words


def size(data: bytes) -> tuple[int, int]:
    """Pixels across and down of a PNG."""
    wide, high = struct.unpack(">II", data[16:24])
    assert high <= 800
    return wide, high


def badges(picture: sheet.Picture, journey: mc.Journey) -> list[tuple[str, sheet.Rect]]:
    """Where the badges of a journey stand."""
    from matplotlib.figure import Figure

    axes = Figure().add_axes((0, 0, 1, 1))
    drawing.draw(axes, picture, journey)
    found = [t for t in axes.texts if t.get_color() == "white"]
    assert found
    return [(t.get_text(), sheet.Rect(*t.get_position(), sheet.text_width(t.get_text(), sheet.SMALL), 8)) for t in found]


@pytest.mark.parametrize("name", ["fernhollow", "grounds"])
def test_the_shipped_networks_are_drawn_without_a_crossing(name: str) -> None:
    plan = mc.Plan(mc.load(DATA / f"{name}.yaml"))
    picture = layout.place(plan.network)
    assert size(drawing.render(picture, plan.network.title, "png")) <= (1280, 800)
    assert (crowding(picture), touching(picture), crossings(picture)) == ([], [], 0)


def test_the_arrangement_is_the_same_with_a_journey(demo: mc.Plan) -> None:
    picture = layout.place(demo.network)
    before = {k: (b.rect.x, b.rect.y) for k, b in picture.boxes.items()}
    drawing.render(picture, "t", "svg", mc.trace(demo, "kiosk-1", "almanac"))
    assert {k: (b.rect.x, b.rect.y) for k, b in picture.boxes.items()} == before


def test_a_later_packet_has_a_colour_and_words_of_its_own(demo: mc.Plan) -> None:
    from datetime import UTC, datetime

    journey = mc.trace(demo, "lab-bench", "almanac.example", "https", at=datetime(2026, 6, 7, 9, 0, tzinfo=UTC))
    assert journey.later is not None
    svg = drawing.render(layout.place(demo.network), "t", "svg", journey)
    assert b"violet: later packet" in svg
    assert drawing._LATER.encode() in svg
    assert b"a later packet" not in drawing.render(layout.place(demo.network), "t", "svg", mc.trace(demo, "kiosk-1", "ledger"))


def test_forty_hosts_on_one_segment_go_into_columns() -> None:
    b = mc.Builder("crowd")
    b.router("r", a="10.40.1.1/24")
    names = [f"host-{n}" for n in range(40)]
    for n, name in enumerate(names):
        b.host(name, f"10.40.1.{10 + n}/24", gateway="10.40.1.1")
    b.segment("hall", "r/a", *names)
    picture = layout.place(b.finish())
    assert picture.height < 300
    rows = picture.boxes["segment hall"].rows
    assert len({(r.x, r.y) for r in rows}) == 40
    assert all(r.right <= picture.width for r in rows)


@examples(25, 75, suppress_health_check=[HealthCheck.too_slow])
@given(networks())
def test_boxes_of_random_networks_do_not_overlap(network: mc.Network) -> None:
    picture = layout.place(network)
    rects = [b.rect for b in picture.boxes.values()]
    assert not any(a.overlaps(b) for n, a in enumerate(rects) for b in rects[n + 1 :])
    assert set(picture.home) == set(network.devices)
    assert crowding(picture) == []
    assert touching(picture) == []


@pytest.mark.parametrize(
    ("failed", "passed", "other"),
    [([], ["gate", "box", "upstream"], ("gate", "upstream")), (["link fibre"], ["gate", "upstream"], ("gate", "box"))],
)
def test_a_way_is_drawn_past_the_switches_that_it_crosses_and_not_by_a_shorter_line(
    demo: mc.Plan, failed: list[str], passed: list[str], other: tuple[str, str]
) -> None:
    """From the gate two lines lead to the provider, one of them over a switch."""
    lab = Lab(demo.written)
    for what in failed:
        lab.fail(what)
    lab.settle()
    journey = lab.test(Flow("kiosk-1", "almanac", "tcp/443", Options(family=4)))
    picture = layout.place(demo.network)
    strokes = drawing._route(picture, journey.there)
    lines = {frozenset((n.start, n.end)): n.points for n in picture.lines}
    for pair in itertools.pairwise(passed):
        points = lines[frozenset(pair)]
        assert points in strokes or points[::-1] in strokes
    missed = lines[frozenset(other)]
    assert missed not in strokes
    assert missed[::-1] not in strokes


def test_what_goes_into_a_tunnel_is_drawn_along_the_cables_that_carry_it(demo: mc.Plan) -> None:
    journey = mc.trace(demo, "lab-bench", "moor-store", "https")
    picture = layout.place(demo.network)
    strokes = drawing._route(picture, journey.there)
    lines = {frozenset((n.start, n.end)): n.points for n in picture.lines}
    for pair in (("gate", "box"), ("box", "upstream"), ("upstream", "moor-gate")):
        points = lines[frozenset(pair)]
        assert points in strokes or points[::-1] in strokes
