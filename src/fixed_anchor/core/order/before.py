"""Which turn waits for which: addresses that are handed on, services that others rely on, circles that need parking.

The rules, in their order:

1. A host takes an address of another one when that one has let go of it.
2. A gateway, resolver or DHCP server whose planned address is not held yet is changed first, and keeps its old address
   beside until the last host that is to use it has been changed: then its second change drops that one.
3. One whose addresses stay is changed last.
4. Where the turns wait for one another in a circle, a host of it moves to a parking address first, and from there to
   its own when that is free.
5. What is left out leaves out those that depend on it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from fixed_anchor.core.addresses import IPAddress, in_words
from fixed_anchor.core.indexed_claims import few
from fixed_anchor.core.order.turn import FIRST, SECOND, WHOLE, Key, LeftOut, Standing, Turn, used_by
from fixed_anchor.core.plan import Plan


class Before:
    """The turns of ``movers``, the hosts that are changed; ``others`` are those of the plan that stay as they are.

    Of these ``settled`` are as planned; ``left_out`` were to be changed, and why they are not. :attr:`turns` are what
    came of it.
    """

    def __init__(
        self,
        plan: Plan,
        movers: Mapping[str, Standing],
        others: Mapping[str, Standing],
        settled: frozenset[str],
        left_out: Mapping[str, str],
        parks: Sequence[IPAddress] = (),
    ) -> None:
        self._plan = plan
        self._movers = dict(movers)
        self._settled = settled
        self._left_out = dict(left_out)
        self._parks = parks
        self._uses = {name: used_by(plan, host) for name, host in plan.hosts.items()}
        self._holders = {address: name for name, standing in {**others, **movers}.items() for address in standing.held}
        self._users: dict[IPAddress, list[str]] = {}
        for name, used in self._uses.items():
            for address in used:
                self._users.setdefault(address, []).append(name)
        #: The addresses at which each one serves others.
        self._served_at = {
            name: frozenset(a for a in standing.planned if any(n != name for n in self._users.get(a, ())))
            for name, standing in movers.items()
        }
        self._planned_by = {address: name for name, standing in movers.items() for address in standing.planned}
        #: For each host that is parked: the parking address of each planned one.
        self._parked: dict[str, dict[IPAddress, IPAddress]] = {}
        self._pending: list[LeftOut] = []
        self.turns: dict[Key, Turn] = {}
        self._arrange()

    @property
    def left_out(self) -> tuple[LeftOut, ...]:
        """All that are left out, and those of which the second change has to wait."""
        return (*(LeftOut(name, why) for name, why in self._left_out.items()), *self._pending)

    # --- what each host is -----------------------------------------------------------------

    def _new_services(self, name: str) -> frozenset[IPAddress]:
        """The addresses at which others are to be served by a host that does not hold them yet."""
        return self._served_at[name] & self._movers[name].coming

    def _dependants(self, name: str, addresses: frozenset[IPAddress]) -> list[str]:
        users = dict.fromkeys(user for address in addresses for user in self._users.get(address, ()))
        return [user for user in users if user != name]

    def _is_moving_service(self, name: str) -> bool:
        return bool(self._new_services(name))

    def _is_in_two(self, name: str) -> bool:
        return name in self._parked or (self._is_moving_service(name) and bool(self._movers[name].going))

    def _parts(self, name: str) -> tuple[Key, ...]:
        return (Key(name, FIRST), Key(name, SECOND)) if self._is_in_two(name) else (Key(name, WHOLE),)

    def _begins(self, name: str) -> Key:
        """The turn with which it has all of its plan but an address that somebody else holds."""
        return self._parts(name)[0]

    def _settles(self, name: str) -> Key:
        """The turn with which it takes its planned addresses."""
        return self._parts(name)[-1] if name in self._parked else self._parts(name)[0]

    def _frees(self, name: str) -> Key:
        """The turn with which it lets go of what it holds today."""
        return self._parts(name)[0] if name in self._parked else self._parts(name)[-1]

    # --- leaving out, and parking ----------------------------------------------------------

    def _arrange(self) -> None:
        """Makes the turns; parks or leaves out until none of them waits for itself."""
        while True:
            self._leave_out_dependants()
            self.turns = self._with_second_ones(dict(self._made()))
            stranded = next(self._waiting_for_nothing(), None)
            if stranded is not None:
                self._leave_out(*stranded)
                continue
            circle = next(_circles(self.turns), None)
            if circle is None:
                return
            if not self._park_one(circle):
                words = self._circle_words(circle)
                for name in dict.fromkeys(key.host for key in circle):
                    self._leave_out(name, words)

    def _leave_out(self, name: str, why: str) -> None:
        self._left_out[name] = why
        self._movers.pop(name, None)
        self._parked.pop(name, None)

    def _leave_out_dependants(self) -> None:
        while True:
            found = next(self._depending(), None)
            if found is None:
                return
            self._leave_out(*found)

    def _depending(self) -> Iterator[tuple[str, str]]:
        """Hosts that wait for one which is left out, each with the reason."""
        for name, standing in self._movers.items():
            for address in sorted(standing.coming, key=int):
                holder = self._holders.get(address)
                if holder in self._left_out:
                    yield name, f"{holder} has {address} today, and is left out"
            for address, role in self._uses[name].items():
                if address not in self._holders and (to_be := self._left_out_at(address, name)):
                    yield name, f"its {role} {address} is to be {to_be}, which is left out"

    def _waiting_for_nothing(self) -> Iterator[tuple[str, str]]:
        """Hosts that wait for a turn which is not made, each with the reason."""
        for turn in self.turns.values():
            for before in turn.after:
                if before not in self.turns:
                    going = in_words(self._movers[before.host].going)
                    yield turn.host, f"{before.host} keeps {going} beside, since others may still use it"

    def _left_out_at(self, address: IPAddress, but: str) -> str:
        """The host that is left out and was to have ``address``."""
        hosts = self._plan.hosts
        for name in self._left_out:
            planned = {held.address for i in hosts[name].interfaces for held in i.own} if name in hosts else set()
            if name != but and address in planned:
                return name
        return ""

    def _park_one(self, circle: Sequence[Key]) -> bool:
        """Parks a host of a circle; false where none can be."""
        for name in dict.fromkeys(key.host for key in circle):
            if name in self._parked or self._is_moving_service(name):
                continue
            taken = [a for a in sorted(self._movers[name].coming, key=int) if self._giver(name, a) is not None]
            chosen = self._parking_for(name, taken)
            if taken and chosen:
                self._parked[name] = chosen
                return True
        return False

    def _parking_for(self, name: str, taken: Iterable[IPAddress]) -> dict[IPAddress, IPAddress]:
        """A parking address for each of ``taken``, on the same segment; nothing where there are not as many."""
        in_use = {park for parked in self._parked.values() for park in parked.values()}
        free = [p for p in self._parks if p not in in_use] + [p for p in self._parks if p in in_use]
        chosen: dict[IPAddress, IPAddress] = {}
        for address in taken:
            segments = {i.segment for i in self._movers[name].host.interfaces if address in i.every_address}
            subnets = [s for segment in segments for s in self._plan.segments[segment].subnets]
            fit = [
                p
                for p in free
                if p not in chosen.values() and any(s.version == p.version and p in s and address in s for s in subnets)
            ]
            if not fit:
                return {}
            chosen[address] = fit[0]
        return chosen

    def _circle_words(self, circle: Sequence[Key]) -> str:
        names = dict.fromkeys(key.host for key in circle)
        handed = [
            f"{name} takes {address} from {giver}"
            for name in names
            for address in sorted(self._movers[name].coming, key=int)
            if (giver := self._giver(name, address)) in names
        ]
        waits = "; ".join(handed) or f"{' and '.join(names)} wait for one another"
        segment = next(i.segment for name in names for i in self._movers[name].host.interfaces)
        return f"a circle: {waits}. A free address of {segment} with --park lets one of them wait there"

    def _giver(self, name: str, address: IPAddress) -> str | None:
        """The host of this run that has ``address`` today, and lets go of it."""
        giver = self._holders.get(address)
        return giver if giver in self._movers and giver != name and address in self._movers[giver].going else None

    # --- the turns -------------------------------------------------------------------------

    def _made(self) -> Iterator[tuple[Key, Turn]]:
        """Every turn with what it waits for, but for those that drop what stays beside, and those that come last."""
        for name, standing in self._movers.items():
            is_service = self._is_moving_service(name)
            for key in self._parts(name):
                after: dict[Key, str] = {}
                if key.part == SECOND:
                    after[self._begins(name)] = ""
                if key == self._settles(name):
                    after |= self._takes(name, standing)
                if key == self._begins(name) and not is_service:
                    after |= self._served(name)
                yield key, self._turn(key, after)

    def _turn(self, key: Key, after: Mapping[Key, str]) -> Turn:
        name, why = key.host, [words for words in after.values() if words]
        served = self._new_services(name)
        beside: frozenset[IPAddress] = frozenset()
        parked: Mapping[IPAddress, IPAddress] = {}
        if served and key == self._begins(name):
            shown = in_words(served)
            users = [n for n in self._dependants(name, served) if n in self._movers]
            why.insert(0, f"others are to use {shown}: {few(users)}" if users else f"others use {shown}")
            if key.part == FIRST:
                beside = self._movers[name].going
                why.append(f"keeps {in_words(beside)} beside until they do")
        if name in self._parked and key.part == FIRST:
            parked = self._parked[name]
            why.append("; ".join(f"waits at {park} until {address} is free" for address, park in parked.items()))
        return Turn(key, frozenset(after), tuple(why), beside, parked, alone=bool(served))

    def _takes(self, name: str, standing: Standing) -> dict[Key, str]:
        """Those that let go of an address which this one takes; and of a parking address."""
        found = {}
        for address in sorted(standing.coming, key=int):
            giver = self._giver(name, address)
            if giver is not None:
                found[self._frees(giver)] = f"takes {address}, which {giver} has until then"
        return found

    def _served(self, name: str) -> dict[Key, str]:
        """Those that are to serve it, and do not hold their address yet."""
        found = {}
        for address, role in self._uses[name].items():
            other = self._planned_by.get(address)
            if other in self._movers and other != name and address in self._new_services(other):
                found[self._settles(other)] = f"its {role} {address} is {other}"
        for park in self._parked.get(name, {}).values():
            before = [other for other in self._parked if park in self._parked[other].values()]
            at = before.index(name)
            if at:
                found[Key(before[at - 1], SECOND)] = f"{park} is free again"
        return found

    def _with_second_ones(self, turns: dict[Key, Turn]) -> dict[Key, Turn]:
        """The same with what waits for the whole of the others: dropping what stayed beside, and staying services."""
        self._pending = []
        done = {name: frozenset((self._begins(name), self._settles(name))) for name in self._movers}
        for name in self._movers:
            if self._is_moving_service(name) and self._is_in_two(name):
                self._drop_last(turns, name, done)
        stays = [name for name in self._movers if self._served_at[name] and not self._is_moving_service(name)]
        for name in stays:
            key = self._begins(name)
            waiting_for_it = _descendants(turns, self._parts(name))
            others = frozenset(
                k for other, keys in done.items() if other not in stays for k in keys if k not in waiting_for_it
            )
            words = f"others use {in_words(self._served_at[name])}, which stays: it comes last"
            turns[key] = _waiting(turns[key], others, words, alone=True)
        return turns

    def _drop_last(self, turns: dict[Key, Turn], name: str, done: Mapping[str, frozenset[Key]]) -> None:
        key, served = Key(name, SECOND), self._new_services(name)
        users = self._dependants(name, served)
        missing = [user for user in users if user not in done and user not in self._settled]
        beside = in_words(self._movers[name].going)
        if missing:
            del turns[key]
            words = f"keeps {beside} beside: not changed, and may still use it: {few(missing)}"
            self._pending.append(LeftOut(name, words, is_begun=True))
            return
        others = frozenset(self._begins(user) for user in users if user in done)
        turns[key] = _waiting(turns[key], others, f"drops {beside}, which nobody uses any more", alone=True)


def _waiting(turn: Turn, after: frozenset[Key], words: str, alone: bool) -> Turn:
    return Turn(turn.key, turn.after | after, (*turn.why, words), turn.beside, turn.parked, alone or turn.alone)


def _descendants(turns: Mapping[Key, Turn], of: Iterable[Key]) -> set[Key]:
    """All that wait for any of ``of``, these among them."""
    waiting: dict[Key, list[Key]] = {}
    for turn in turns.values():
        for before in turn.after:
            waiting.setdefault(before, []).append(turn.key)
    found, to_look = set(of), list(of)
    while to_look:
        for key in waiting.get(to_look.pop(), ()):
            if key not in found:
                found.add(key)
                to_look.append(key)
    return found


def _circles(turns: Mapping[Key, Turn]) -> Iterator[list[Key]]:
    """Turns that wait for one another, each circle as one list, in the order of the plan."""
    left = dict(turns)
    while True:
        # What waits for nothing that is left is in no circle.
        free = [key for key, turn in left.items() if not any(before in left for before in turn.after)]
        if not free:
            break
        for key in free:
            del left[key]
    while left:
        # Back from anywhere, along what is waited for, one comes round.
        seen: list[Key] = [next(iter(left))]
        while True:
            before = next(k for k in left[seen[-1]].after if k in left)
            if before in seen:
                circle = set(seen[seen.index(before) :])
                yield [key for key in turns if key in circle]
                return
            seen.append(before)
