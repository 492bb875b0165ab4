"""Pictures: nothing stands on anything else, and the same network gives the same bytes."""

from __future__ import annotations

from typing import Any

import pytest

import mossy_compass as mc
from mossy_compass.report import drawing, layout


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
def large() -> layout.Picture:
    return layout.place(sixty())


def crowding(picture: layout.Picture) -> list[tuple[str, str]]:
    boxes = [(b.name, b.rect) for b in picture.boxes.values()]
    labels = [(n.words, n.rect) for n in picture.labels]
    over = [(a, b) for a, r in labels for b, s in boxes if r.overlaps(s)]
    over += [(a, b) for n, (a, r) in enumerate(labels) for b, s in labels[n + 1 :] if r.overlaps(s)]
    return over + [(a, b) for n, (a, r) in enumerate(boxes) for b, s in boxes[n + 1 :] if r.overlaps(s)]


def test_no_label_overlaps_in_the_demo(demo: mc.Plan) -> None:
    assert crowding(layout.place(demo.network)) == []


def test_sixty_devices_stay_legible(large: layout.Picture) -> None:
    assert crowding(large) == []
    assert len(large.home) == 56


def test_everything_is_on_the_paper(large: layout.Picture) -> None:
    for rect in [b.rect for b in large.boxes.values()] + [n.rect for n in large.labels]:
        assert rect.w / 2 <= rect.x <= large.width - rect.w / 2
        assert rect.h / 2 <= rect.y <= large.height - rect.h / 2


def test_down_things_are_marked(large: layout.Picture) -> None:
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


def test_only_what_is_near(demo: mc.Plan) -> None:
    near = layout.around(demo.network, "glen", 1)
    assert near == {"glen", "canopy", "sensor-fern", "sensor-orchid"}
    assert set(layout.place(demo.network, near).home) == near


def test_rectangles_and_lines() -> None:
    box = layout.Rect(10, 10, 4, 4)
    assert box.crossed_by((0, 10), (20, 10))
    assert not box.crossed_by((0, 13), (20, 13))
    assert not box.crossed_by((0, 10), (5, 10))
    assert box.crossed_by((10, 10), (10, 11))
