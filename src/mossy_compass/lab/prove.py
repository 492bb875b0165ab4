"""Claims about all packets of a network: what never reaches what (``never.py``), and what always does (``reach.py``)."""

from __future__ import annotations

from functools import partial

from mossy_compass.errors import QuestionError
from mossy_compass.lab.circumstances import every_case
from mossy_compass.lab.claims import Claim
from mossy_compass.lab.ends import meant
from mossy_compass.lab.proofs import Against, Found, Proof, Watched, addresses_meant, services_in
from mossy_compass.lab.reach import search_each, search_seen
from mossy_compass.model.network import Network
from mossy_compass.plan.plan import Plan
from mossy_compass.plan.reasons import Fate
from mossy_compass.proof.space import FOR_A_NETWORK, with_room
from mossy_compass.walk.weather import in_weather


def prove(of: Network | Plan, claim: Claim, watch: Watched = iter) -> Proof:
    """Look for any packet against a claim, from every address of every source to every address of the target.

    That something is never reached is asked of every protocol, port, ICMP kind and source port; that it is reached, of every source
    port of what was named, or of what the target listens for.

    Args:
        of: the network; compiled, with what fails and which probes are down by now, where that is to count.
        claim: what is to hold.
        watch: takes the sources, and gives them one by one; for a progress bar.

    Raises:
        QuestionError: nobody is meant, there is no such service, or more cases come of it than are looked at.
        TooLarge: the sets need more memory than they are given.

    """
    plan = of if isinstance(of, Plan) else in_weather(Plan(of))
    network = plan.network
    sources, targets = meant(network, claim.source, True, True), meant(network, claim.target, False, True)
    asked = tuple(s for name in (*claim.services, *claim.but) for s in services_in(network, name))
    claim.check(network.devices)
    cases = every_case(plan)
    held = {a: end for end in targets.ends for a in addresses_meant(network, end)}
    if not held or not sources.ends:
        left = (*sources.left, *targets.left)
        raise QuestionError(f"nothing can be asked about '{claim.words}': {', '.join(left) or 'nobody is meant'}.")
    found = Found(plan, claim, asked, held)
    # Equal hosts are not the same: each is asked from where it stands.
    search = search_seen if claim.never else search_each
    with_room(partial(search, found, cases, list(sources.ends), watch), FOR_A_NETWORK)
    if not found.senders:
        why = ", ".join(dict.fromkeys(found.left)) or "every source is the only target itself, or has no address"
        raise QuestionError(f"nothing can be asked about '{claim.words}': {why}.")
    unheld = [f"{end.name} (no address to send to)" for end in targets.ends if not addresses_meant(network, end)]
    left = tuple(dict.fromkeys((*sources.left, *targets.left, *unheld, *found.left)))
    reasons = tuple((device, because, count) for (device, because), count in found.reasons.most_common())
    # What is read first is what people know best: what is answered, then what is at least listened for.

    def known(one: Against) -> tuple[bool, bool, bool]:
        """Least for what stands first."""
        return not one.journey.answered, one.journey.there.fate is not Fate.DELIVERED, ":" in one.target

    against = tuple(sorted(found.against.values(), key=known))
    return Proof(
        claim=claim,
        against=against,
        doubtful=tuple(dict.fromkeys(found.doubtful)),
        reasons=reasons,
        kinds=found.kinds,
        sources=len(found.senders),
        targets=len(held),
        cases=len(cases),
        left=left,
        stray=found.stray,
        elsewhere=sum(found.elsewhere.values()),
        walked=tuple(found.walked),
    )
