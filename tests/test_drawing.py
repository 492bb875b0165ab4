"""Pictures: nothing stands on anything else, and the same network gives the same bytes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given

import mossy_compass as mc
from mossy_compass.report import drawing, labels, layout, sheet
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
    assert picture.left_out == 0


def test_sixty_devices_stay_legible(large: sheet.Picture) -> None:
    assert crowding(large) == []
    assert large.left_out == 0
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
        assert b"answer dropped" in once


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


def test_rectangles_and_lines() -> None:
    """Which straight pieces go through a rectangle of 4 by 4 around (10, 10)."""
    pieces = np.array(
        [(0, 10, 20, 10), (0, 13, 20, 13), (0, 10, 5, 10), (10, 10, 10, 11), (0, 0, 20, 20), (0, 8.5, 8.5, 0)], dtype=float
    )
    at = np.array([[10.0, 10.0]])
    each = [int(labels._crossings(at, 4, 4, pieces[n : n + 1])[0]) for n in range(len(pieces))]
    assert each == [1, 0, 0, 1, 1, 0]
    assert int(labels._crossings(at, 4, 4, pieces)[0]) == 3
    assert sheet.Rect(0, 0, 4, 4).overlaps(sheet.Rect(3, 3, 4, 4))
    assert not sheet.Rect(0, 0, 4, 4).overlaps(sheet.Rect(5, 0, 4, 4))


def test_sixty_routers_that_all_meet_in_two_keep_their_boxes_and_say_what_is_left_out() -> None:
    """Where no sheet is large enough for every label, those without room are left out, counted, and told of."""
    b = mc.Builder("dense")
    for s in range(2):
        ports: dict[str, Any] = {f"p{n}": f"10.{40 + s}.{n}.1/30" for n in range(58)}
        b.router(f"spine-{s}", **ports)
    for n in range(58):
        b.router(f"leaf-{n}", u0=f"10.40.{n}.2/30", u1=f"10.41.{n}.2/30")
        for s in range(2):
            b.segment(f"c{s}-{n}", f"spine-{s}/p{n}", f"leaf-{n}/u{s}", state="down" if n == 7 else "up")
    picture = layout.place(b.finish())
    boxes = [(n, x.rect) for n, x in picture.boxes.items()]
    assert not [(a, c) for n, (a, r) in enumerate(boxes) for c, q in boxes[n + 1 :] if r.overlaps(q)]
    told = [n for n in picture.labels if "[" not in n.words]
    assert not [a.words for n, a in enumerate(told) for c in told[n + 1 :] if a.rect.overlaps(c.rect)]
    assert picture.left_out > 0
    assert len([n for n in picture.labels if "[cut]" in n.words]) == 2
    assert b"labels found no room" in drawing.render(picture, "dense", "svg")


@examples(25, 75, suppress_health_check=[HealthCheck.too_slow])
@given(networks())
def test_boxes_of_random_networks_do_not_overlap(network: mc.Network) -> None:
    picture = layout.place(network)
    rects = [b.rect for b in picture.boxes.values()]
    assert not any(a.overlaps(b) for n, a in enumerate(rects) for b in rects[n + 1 :])
    assert set(picture.home) == set(network.devices)
