"""Reading network files: every fault at once, each at its place, with what to do."""

from __future__ import annotations

import textwrap

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import mossy_compass as mc
from mossy_compass.files import tree
from tests.conftest import DATA
from tests.effort import examples

BASE = """\
mossy-network: 1
groups:
  desks: [desk]
services:
  print: [tcp/9100]
lists:
  in:
    - {id: 10, permit: tcp, from: desks, service: print}
devices:
  r:
    kind: router
    interfaces:
      a: {address: 10.40.1.1/24, filter: {arriving: in}}
      b: 10.40.2.1/24
  desk: {kind: host, address: 10.40.1.10/24, gateway: 10.40.1.1}
  press: {kind: host, address: 10.40.2.10/24, gateway: 10.40.2.1, serves: [print]}
segments:
  left: [desk, r/a]
  right: [press, r/b]
"""


def problems(text: str) -> list[mc.Problem]:
    return list(mc.read_bytes(text.encode(), "n.yaml").problems)


def test_the_base_is_clean() -> None:
    assert problems(BASE) == []


# old text, new text, code, line, what the message or remedy says
FAULTS = [
    ("mossy-network: 1", "mossy-network: 2", "file.version", 1, "version '2'"),
    ("mossy-network: 1\n", "", "key.missing", 1, "begins with 'mossy-network: 1'"),
    ("kind: router", "kind: rooter", "value.wrong", 11, "Did you mean router"),
    ("interfaces:\n", "intefaces:\n", "key.unknown", 12, "Did you mean interfaces"),
    ("    kind: router\n", "", "key.missing", 10, "'kind' is missing"),
    ("10.40.1.1/24,", "10.40.1.300/24,", "value.wrong", 13, "300 is more than 255"),
    ("10.40.1.1/24,", "10.40.1.0/24,", "value.wrong", 13, "network address"),
    ("b: 10.40.2.1/24", "b: 10.40.2.1", "value.wrong", 14, "no prefix length"),
    ("arriving: in}", "arriving: inn}", "list.unknown", 13, "Did you mean in"),
    ("arriving: in}", "ariving: in}", "key.unknown", 13, "Did you mean arriving"),
    ("permit: tcp", "permitt: tcp", "key.unknown", 8, "Did you mean permit"),
    ("permit: tcp", "permit: tpc", "value.wrong", 8, "not a protocol"),
    ("permit: tcp,", "permit: tcp, deny: udp,", "value.wrong", 8, "permit and deny"),
    ("permit: tcp, ", "", "value.wrong", 8, "exactly one of"),
    ("from: desks", "from: dessks", "name.unknown", 8, "Did you mean desks"),
    ("from: desks", "from: 10.40.1.0/40", "value.wrong", 8, "0 to 32"),
    ("from: desks", "from: 10.40.1.7/24", "value.wrong", 8, "the subnet is 10.40.1.0/24"),
    ("service: print}", "service: prnt}", "service.unknown", 8, "Did you mean print"),
    ("service: print}", "service: tcp/99999}", "value.wrong", 8, "0 to 65535"),
    ("permit: tcp", "permit: udp", "rule.service", 8, "could never match"),
    ("service: print}", "service: print, to-port: 80}", "value.wrong", 8, "not both"),
    ("service: print}", "icmp: echo-request}", "rule.icmp", 8, "needs a rule of icmp"),
    ("service: print}", "log: perhaps}", "value.wrong", 8, "is none of yes, no, emergency"),
    ("    - {id: 10", "    - {id: 10, permit: any}\n    - {id: 10", "rule.twice", 9, "two rules 10"),
    ("desks: [desk]", "desks: [desks]", "group.circle", 3, "contains itself"),
    ("desks: [desk]", "desks: []", "group.empty", 3, "no member"),
    ("desks: [desk]", "desks: [desk]\n  any: [desk]", "group.built-in", 4, "built-in"),
    ("desks: [desk]", "desks: [self]", "group.self", 3, "another device"),
    ("desks: [desk]", "desks: [desk]\n  press: [desk]", "name.twice", 4, "also one of the devices"),
    ("print: [tcp/9100]", "print: [print]", "service.circle", 5, "contains itself"),
    ("print: [tcp/9100]", "print: [tcp/9100]\n  https: [tcp/444]", "service.built-in", 6, "well-known"),
    ("serves: [print]", "serves: [ssh, pront]", "service.unknown", 16, "Did you mean print"),
    ("serves: [print]", "serves: [ssh, ping]", "service.unknown", 16, "unless the setting answers-ping says no"),
    ("left: [desk, r/a]", "left: [dessk, r/a]", "device.unknown", 18, "Did you mean desk"),
    ("left: [desk, r/a]", "left: [desk, r/aa]", "interface.unknown", 18, "Did you mean a"),
    ("left: [desk, r/a]", "left: [desk, r]", "interface.which", 18, "r has 2 interfaces"),
    ("left: [desk, r/a]", "left: [desk, r/a, press]", "segment.twice", 19, "already on a segment"),
    ("gateway: 10.40.1.1}", "gateway: 10.40.1}", "value.wrong", 15, "has 3 parts"),
    ("kind: router\n", "kind: router\n    gateway: 10.40.1.2\n", "device.kind", 12, "a router has routes"),
    ("kind: router\n", "kind: router\n    address: 10.40.9.2/24\n", "device.kind", 12, "has interfaces"),
    ("kind: router\n", "kind: router\n    settings: {forwading: yes}\n", "setting.unknown", 12, "Did you mean forwarding"),
    ("kind: router\n", "kind: router\n    settings: {forwarding: maybe}\n", "value.wrong", 12, "not a value of forwarding"),
    ("kind: router\n", "kind: router\n    stateful: [tpc]\n", "value.wrong", 12, "not a protocol"),
    ("kind: router\n", "kind: router\n    routes: [{prefix: default}]\n", "route.nowhere", 12, "neither next-hop nor leaving"),
    ("kind: router\n", "kind: router\n    routes: [{next-hop: 10.40.1.9}]\n", "key.missing", 12, "'prefix' is missing"),
    ("kind: router\n", "kind: router\n    routes: [{prefix: 10.50.0.0/16, leaving: z}]\n", "interface.unknown", 12, "no interface 'z'"),
    ("kind: router\n", "kind: router\n    routes: [{prefix: 10.50.0.0/16, next-hop: '2001:db8::1'}]\n", "route.family", 12, "is IPv6"),
    ("kind: router\n", "kind: router\n    translate: [{leaving: bb}]\n", "interface.unknown", 12, "no interface 'bb'"),
    ("kind: router\n", "kind: router\n    kind: firewall\n", "yaml.duplicate-key", 12, "the first is at line 11"),
    ("kind: router\n", "kind: router\n    routes:\n", "yaml.empty-value", 12, "nothing is written"),
    ("kind: router\n", "kind: router\n    routes: default\n", "value.wrong", 12, "list is wanted"),
    ("  r:\n", "  r/2:\n", "value.wrong", 10, "not a name"),
    ("kind: router\n", "kind: router\n    routes: [{prefix: default, action: discard, next-hop: 10.40.1.9}]\n", "route.action", 12, "goes nowhere"),
    ("permit: tcp, from: desks, service: print", "permit: icmp, from: desks, to-port: 80", "rule.port", 8, "icmp has no ports"),
    ("permit: tcp, from: desks, service: print", "permit: icmp, icmp: echo-requst", "value.wrong", 8, "not a kind of icmp"),
    ("  desk:", "  sw: {kind: switch, interfaces: {p: {filter: {arriving: in}}}}\n  desk:", "switch.list", 15, "no list is examined there"),
    ("  desk:", "  sw:\n    kind: switch\n    interfaces:\n      p:\n        filter:\n          leaving: in\n  desk:", "switch.list", 20, "no list is examined there"),
    ("b: 10.40.2.1/24", "b: 224.0.0.1/24", "value.wrong", 14, "a multicast address"),
]  # fmt: skip


def test_a_number_that_says_another_order_than_the_text_is_warned_of() -> None:
    rules = [{"id": ident, "permit": "any"} for ident in ("10", "30", "20", "named", "25", "40")]
    text = BASE.replace("    - {id: 10", "".join(f"    - {rule}\n" for rule in rules[:-1]) + "    - {id: 40").replace("'", '"')
    reading = mc.read_bytes(text.encode(), "x.yaml")
    assert reading.network is not None, reading.problems
    found = [(p.mark.line, p.severity.value) for p in reading.problems if p.code == "rule.out-of-order"]
    first = text.splitlines().index('    - {"id": "10", "permit": "any"}') + 1
    assert found == [(first + 2, "warning"), (first + 4, "warning")]
    assert [r.id for r in reading.network.lists["in"].rules] == ["10", "30", "20", "named", "25", "40"]


@pytest.mark.parametrize("old, new, code, line, says", FAULTS, ids=[f"{f[2]}-{n}" for n, f in enumerate(FAULTS)])
def test_each_fault_is_found_at_its_place(old: str, new: str, code: str, line: int, says: str) -> None:
    assert old in BASE
    reading = mc.read_bytes(BASE.replace(old, new, 1).encode(), "n.yaml")
    assert reading.network is None
    found = [p for p in reading.problems if p.code == code]
    assert found, [p.line() for p in reading.problems]
    assert found[0].mark.line == line, [p.line() for p in reading.problems]
    assert says in f"{found[0].message} {found[0].remedy}"


@pytest.mark.parametrize(
    "old, new, code, line",
    [
        ("filter: {arriving: in}", "about: x", "idle.unattached", 7),
        ("from: desks, ", "", "idle.unused", 3),
        ("left: [desk, r/a]", "left: [desk]", "interface.alone", 13),
        ("10.40.1.10/24, gateway: 10.40.1.1}", "10.40.1.10/24, gateway: 10.40.3.1}", "host.gateway-elsewhere", 15),
        ("10.40.1.10/24, gateway: 10.40.1.1}", "10.40.1.10/24}", "host.no-gateway", 15),
        ("10.40.1.10/24", "10.40.1.1/24", "address.duplicate", 15),
        ("permit: tcp", "deny: tcp", "list.only-denies", 7),
        ("    - {id: 10, permit: tcp, from: desks, service: print}", "    {about: later}", "list.empty", 7),
        ("id: 10,", "id: 10, disabled: yes,", "idle.disabled", 8),
        ("kind: router\n", "kind: router\n    routes: [{prefix: default, next-hop: 10.99.0.1}]\n", "route.next-hop-elsewhere", 12),
        ("kind: router\n", "kind: router\n    routes: [{prefix: default, next-hop: 10.40.1.1}]\n", "route.self", 12),
        ("  desk:", "  spare: {kind: router}\n  desk:", "device.alone", 15),
    ],
)
def test_warnings_do_not_refuse(old: str, new: str, code: str, line: int) -> None:
    reading = mc.read_bytes(BASE.replace(old, new, 1).encode(), "n.yaml")
    assert reading.network is not None, [p.line() for p in reading.problems]
    assert (code, line) in [(p.code, p.mark.line) for p in reading.problems], [p.line() for p in reading.problems]


def test_a_group_may_not_name_a_device_without_an_address() -> None:
    found = problems(BASE.replace("desks: [desk]", "desks: [desk, bare]").replace("devices:\n", "devices:\n  bare: {kind: host}\n"))
    assert [(p.code, p.mark.line) for p in found if p.severity == "error"] == [("device.no-address", 3)]


def test_all_faults_in_one_pass_and_no_follow_on_faults() -> None:
    text = (
        BASE.replace("kind: router", "kind: rooter")
        .replace("from: desks", "from: nobody")
        .replace("10.40.1.10/24", "10.40.1.10/99")
        .replace("left: [desk, r/a]", "left: [desk, r/a, ghost]")
    )
    found = problems(text)
    assert [(p.mark.line, p.code) for p in found if p.severity == "error"] == [
        (8, "name.unknown"),
        (11, "value.wrong"),
        (15, "value.wrong"),
        (18, "device.unknown"),
    ]


def test_marks_after_a_faulty_rule_stay_right() -> None:
    text = BASE.replace("    - {id: 10", "    - {id: 5, permit: nothing}\n    - {id: 10").replace("from: desks", "from: nobody")
    assert [(p.mark.line, p.code) for p in problems(text)] == [(8, "value.wrong"), (9, "name.unknown")]


@pytest.mark.parametrize(
    "data, code, line",
    [
        (b"", "file.empty", 1),
        (b"\xff\xfe\x00", "file.not-text", 1),
        (b"a: 1\nb: \xc3\x28\n", "file.not-text", 2),
        (b"- 1\n", "file.shape", 1),
        (b"just words\n", "file.shape", 1),
        (b"a: [1\nb: 2\n", "yaml.syntax", 2),
        (b'a: "unclosed\nb: 2\n', "yaml.syntax", 1),
        (b"a: 1\n\tb: 2\n", "yaml.syntax", 2),
        (b"a: \x00\n", "yaml.syntax", 1),
        (b"a: &x 1\nb: *x\n", "yaml.alias", 1),
        (b"a: !!python/object 1\n", "yaml.tag", 1),
        (b"a: 1\n---\nb: 1\n", "yaml.documents", 2),
        (b"? [a]\n: 1\n", "yaml.key", 1),
        (b"[" * 5000, "yaml.too-deep", 1),
        (b"a: 1\n" + b"x" * (10 * 1024 * 1024), "file.too-large", 0),
        (b"a: &a [x]\nb: &b [*a,*a]\nc: &c [*b,*b]\n", "yaml.alias", 1),
    ],
)
def test_what_is_no_network_file(data: bytes, code: str, line: int) -> None:
    reading = mc.read_bytes(data, "n.yaml")
    assert reading.network is None
    assert (code, line) in [(p.code, p.mark.line) for p in reading.problems], [p.line() for p in reading.problems]


def test_too_many_values(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tree, "MOST_NODES", 20)
    assert problems(BASE)[0].code == "yaml.too-many"


LAYERS = 40


@pytest.mark.parametrize(
    "data, code",
    [
        # each layer names the next one twice over: followed naively, two to the power of the layers
        ("groups:\n" + "".join(f"  g{n}: [g{n + 1}, g{n + 2}]\n" for n in range(LAYERS)), "group.too-deep"),
        ("services:\n" + "".join(f"  g{n}: [g{n + 1}, g{n + 2}]\n" for n in range(LAYERS)), "group.too-deep"),
        ("lists:\n  l:\n" + "".join(f"    - {{permit: tcp, from: nobody-{n}}}\n" for n in range(1100)), "file.too-faulty"),
        ("names:\n" + "".join(f"  n{n}: nowhere\n" for n in range(1100)), "file.too-faulty"),
        ("lists: {l: [{permit: 99999999999999999999}]}\n", "value.wrong"),
        ("local: [10.0.0.0/0.255.0.255, 10.0.0.0/0.85.85.85]\n", "value.wrong"),
    ],
)
def test_hostile_files_are_refused_in_bounded_time(data: str, code: str) -> None:
    reading = mc.read_bytes(f"mossy-network: 1\ndevices: {{r: {{kind: router}}}}\n{data}".encode(), "h.yaml")
    assert reading.network is None
    assert code in [p.code for p in reading.problems]
    assert len(reading.problems) <= 1300


def test_shared_groups_in_layers_cost_no_more_than_they_are_large() -> None:
    """Ten groups that each name all ten of the next layer: ten to the power of the layers, if each way were walked."""
    layers = 12
    names = [[f"g{layer}-{n}" for n in range(10)] for layer in range(layers + 1)]
    groups = "".join(f"  {name}: [{', '.join(names[layer + 1])}]\n" for layer in range(layers) for name in names[layer])
    groups += "".join(f"  {name}: [guest, 10.40.9.{n}]\n" for n, name in enumerate(names[layers]))
    lists = "lists: {l: [{permit: any, from: g0-0}]}\n"
    devices = (
        "devices:\n"
        "  r: {kind: router, interfaces: {a: {address: 10.40.1.1/24, filter: {arriving: l}}}, leases: {a: 10.40.1.5-10.40.1.9}}\n"
        "  guest: {kind: host, leased: yes}\n"
        "segments: {s: [r/a, guest]}\n"
    )
    network = mc.read_bytes(f"mossy-network: 1\ngroups:\n{groups}{lists}{devices}".encode(), "h.yaml").network
    assert network is not None
    assert mc.trace(network, "guest", "r").answered


def test_scalars_stay_text() -> None:
    reading = mc.read_bytes(
        BASE.replace("desks: [desk]", "desks: [desk]\n  on: [10.40.1.0/24]\n  010: [10.40.1.10]").encode(), "n.yaml"
    )
    assert reading.network is not None
    assert {"on", "010"} <= set(reading.network.groups)


def test_yaml_forms_that_mean_the_same() -> None:
    long = (
        BASE.replace("b: 10.40.2.1/24", "b: {address: [10.40.2.1/255.255.255.0]}")
        .replace("desks: [desk]", "desks: {members: [10.40.1.10/32], about: all}")
        .replace("left: [desk, r/a]", "left: {members: [desk/nic, r/a]}")
    )
    journey = mc.trace(mc.read_bytes(long.encode(), "n.yaml").network, "desk", "press", "print")  # type: ignore[arg-type]
    assert journey.answered


def test_load_raises_with_every_problem(tmp_path: object) -> None:
    with pytest.raises(mc.NetworkFileError) as caught:
        mc.Builder("x").finish()
    assert caught.value.problems[0].code == "key.missing"
    with pytest.raises(mc.QuestionError, match="cannot be read"):
        mc.load(f"{tmp_path}/none.yaml")


DEMO = (DATA / "fernhollow.yaml").read_text()


@examples(40, 360, suppress_health_check=[HealthCheck.too_slow])
@given(st.data())
def test_no_mutation_of_a_network_file_gives_a_traceback(data: st.DataObject) -> None:
    lines = DEMO.splitlines()
    for _ in range(data.draw(st.integers(1, 4))):
        number = data.draw(st.integers(0, len(lines) - 1))
        way = data.draw(st.sampled_from(["drop", "twice", "swap", "cut", "put", "indent", "word"]))
        line = lines[number]
        at = data.draw(st.integers(0, len(line)))
        if way == "drop":
            lines[number] = ""
        elif way == "twice":
            lines.insert(number, line)
        elif way == "swap":
            other = data.draw(st.integers(0, len(lines) - 1))
            lines[number], lines[other] = lines[other], line
        elif way == "cut":
            lines[number] = line[:at]
        elif way == "put":
            lines[number] = (
                line[:at]
                + data.draw(st.sampled_from([*list(":,{}[]'\"-#&*!|> \t0"), "::", "yes", "10.40.0.0/8", "\x07", "é"]))
                + line[at:]
            )
        elif way == "indent":
            lines[number] = "  " + line
        else:
            words = line.split(" ")
            words[at % len(words)] = data.draw(
                st.sampled_from(["any", "self", "[]", "{}", "10.40.0.1", "ledger", "-1", "~", "x" * 300])
            )
            lines[number] = " ".join(words)
    reading = mc.read_bytes("\n".join(lines).encode(), "m.yaml")
    for problem in reading.problems:
        assert problem.message
        assert problem.mark.line <= len(lines) + 1
    if reading.network is None:
        assert reading.errors
        return
    plan = mc.Plan(reading.network)
    names = [n for n in reading.network.devices if reading.network.devices[n].interfaces]
    for sender in names[:4]:
        try:
            assert mc.trace(plan, sender, "ledger", "tcp/443").cause in mc.CAUSES
        except mc.QuestionError:
            continue


def test_a_fault_is_shown_with_its_line_and_a_caret() -> None:
    from mossy_compass.report import text

    shown = text.as_text(text.problem(problems(BASE.replace("kind: router", "kind: rooter"))[0]))
    assert shown == textwrap.dedent(
        """\
        n.yaml:11:11: error: 'rooter' is none of router, firewall, host, switch, internet. Did you mean
        router? [value.wrong]
           11 |     kind: rooter
              |           ^
        """
    )


def test_a_long_line_is_cut_around_the_caret() -> None:
    from mossy_compass.report import text

    wide = BASE.replace("desks: [desk]", "desks: [" + ", ".join(["desk"] * 60) + ", ghost, " + ", ".join(["desk"] * 60) + "]")
    shown = text.as_text(text.problem(next(p for p in problems(wide) if p.code == "name.unknown"))).splitlines()
    caret = shown[-1].index("^")
    assert shown[-2][caret : caret + 5] == "ghost"
    assert max(map(len, shown)) <= 100
