"""One bar of a position, from its open to its close: what leaves, what is filled, what is reached.

The contract is in `docs/trials.md`. Everything here is Rung over numbers that live from bar to bar, so that the
position is part of the pass over the bars like anything else that a script keeps.
"""

from __future__ import annotations

from collections.abc import Sequence

from oakladder.rung.lower.prices import Prices, either
from oakladder.rung.lower.writer import Writer
from oakladder.rung.plan.inputs import IntrabarBound
from oakladder.rung.plan.ops import Log, Slot
from oakladder.rung.trade_log import INSIDE, UNDECIDED, Event, Moment, Order
from oakladder.rung.trade_words import Reason, Side, TradeWord

_W = TradeWord
#: The most minutes of a bar that is walked through minute by minute: those of a month.
MOST_PARTS = 31 * 24 * 60


class Fills(Prices):
    """Writes what happens to orders and positions on a bar.

    ``used`` are the clauses that any trade of the script has: what none has is not written. ``orders`` are the names
    of what an order carries from its decision to its fill.
    """

    def __init__(
        self,
        writer: Writer,
        log: Log,
        used: frozenset[TradeWord],
        sides: Sequence[Side],
        *,
        finer: bool = False,
        through: bool = False,
    ):
        super().__init__(writer, sides)
        #: Whether limits and targets are filled only where prices go beyond them, and by how much, as an expression.
        self.through, self._beyond = through, "tick_size * adjusted_by * 0.5"
        self.log, self.used, self.trades, self.finer = log, used, len(sides), finer
        self.has_stop = bool(used & {_W.STOP, _W.STOP_AT, _W.TRAIL, _W.PROTECT, _W.PROTECT_RISKS})
        self.has_target = bool(used & {_W.TARGET, _W.TARGET_AT, _W.TARGET_RISKS})
        self.has_flat = bool(used & {_W.FLAT_BY, _W.FLAT_AT_END})
        self.has_guard = bool(used & {_W.PROTECT, _W.PROTECT_RISKS})
        self._names()

    def has(self, *words: TradeWord) -> bool:
        return bool(self.used & set(words))

    def _names(self) -> None:
        w = self.w
        for name in ("side", "order", "leaving"):
            w.keep(name, 0.0)
        for name in ("held", "best", "stop", "target", "most"):
            w.keep(name)
        w.keep("active", 0.0, cold=True)
        for name in ("entry", "against", "risk", "near_target", "target_risks", "aimed", "guard", "guard_risks", "by"):
            w.keep(name, cold=True)
        for name in (
            "in_bar",
            "in_ago",
            "in_order",
            "in_rank",
            "in_risk",
            "at_end",
            "pause",
            "last_day",
            "o_trade",
            "o_side",
            "o_price",
            "o_left",
            "o_bar",
            *self.carried,
        ):
            w.keep(name, cold=True)
        for k in range(1, self.trades + 1):
            w.keep(f"rest_{k}", 0.0, cold=True)

    @property
    def slots(self) -> frozenset[Slot]:
        """What orders and the position are kept in."""
        return frozenset(s for s in self.w.names.values() if isinstance(s, Slot) and s.lasting)

    @property
    def entered(self) -> Slot:
        """What the place of the bar of the entry is kept in."""
        found = self.w.names["in_bar"]
        assert isinstance(found, Slot)
        return found

    @property
    def idle(self) -> tuple[Slot, ...]:
        """What is 0 where there is neither order nor position nor pause; none where every bar is noted."""
        if self.has_flat:
            return ()
        found = (self.w.names[n] for n in ("side", "order", *(f"rest_{k}" for k in range(1, self.trades + 1))))
        return tuple(s for s in found if isinstance(s, Slot))

    @property
    def carried(self) -> tuple[str, ...]:
        """What an order carries: ``_d`` are distances in price, ``_r`` ratios, ``_p`` prices, ``_n`` numbers of risks."""
        made: list[str] = []
        for word, names in _CARRIED.items():
            made += [name for name in names if word in self.used]
        return tuple(dict.fromkeys(made))

    # --- the bar ----------------------------------------------------------------------------------

    def bar(self) -> None:
        """Everything between the decisions of the bar before and the values of this one."""
        w = self.w
        with w.when("side != 0"):
            w.set("held", "held + 1")
        if self.finer:
            for end in ("first", "last"):
                w.let(f"{end}_part", w.emitter.emit("input", attr=IntrabarBound(end), bound=40, domain=w.domain))
            with w.rounds("part", "first_part", "last_part", MOST_PARTS):
                for name in ("open", "high", "low"):
                    w.let(f"fine_{name}", w.column(name, "max(part, 0)"))
                    w.let(f"p_{name}", f"if part < 0 then {name} else fine_{name}")
                w.let("is_first", "part < 0 or part == first_part")
                self._part()
        else:
            for name in ("open", "high", "low"):
                w.let(f"p_{name}", name)
            w.let("is_first", "yes")
            self._part()
        if self.has(_W.ENTER_AT):
            with w.when("order > 1"):
                w.set("o_left", "o_left - 1")
                with w.when("o_left <= 0"):
                    w.set("order", "0")
        if self.has_flat:
            self._session_end()
        with w.when("side != 0"):
            for name, up, down in (("best", self.long, self.short), ("against", self.short, self.long)):
                falls = either("low", f"({down}) and low < {name}", name)
                w.set(name, either("high", f"({up}) and high > {name}", falls))

    def _part(self) -> None:
        """The bar, or one of the minutes that it is made of."""
        w = self.w
        w.fresh("inside", "0")
        # On most bars nothing happens; one look tells.
        with w.when(f"(order > 0 or {self._may_leave()}) and known(p_open)"):
            with w.when("side != 0"):
                self._at_open()
            with w.when("order > 0 and side == 0"):
                self._order()
            if self.has_stop or self.has_target:
                with w.when("side != 0"):
                    self._inside()

    def _may_leave(self) -> str:
        """Whether a position may leave on this part of the bar: holds wherever it does, and on few bars beside."""
        made = ["leaving > 0"]
        if self.has(_W.MOST):
            made.append("held >= most")
        if self.has_flat:
            made.append("side != 0")
        if self.has_stop:
            made.append(f"(if {self.long} then p_low <= stop else p_high >= stop)")
        if self.has_target:
            made.append(f"(if {self.long} then p_high >= target else p_low <= target)")
        if self.has_stop or self.has_target:
            made.append("not known(p_low + p_high)")
        return " or ".join(made)

    def _at_open(self) -> None:
        """What leaves at the open: what was decided, what has lasted long enough, what lies beyond its stop or target."""
        w = self.w
        w.fresh("reason", "if is_first then leaving else 0")
        if self.has(_W.MOST):
            self._because(Reason.TIME, "is_first and held >= most")
        if self.has(_W.FLAT_BY):
            self._because(Reason.CLOCK, "is_first and known(by) and (clock >= by or day_number != last_day)")
        if self.has(_W.FLAT_AT_END):
            self._because(Reason.SESSION, "is_first and at_end == 1 and day_number != last_day")
        if self.has_stop:
            self._because(Reason.STOP, f"{self.way} * (p_open - stop) <= 0")
        if self.has_target:
            far = f"> {self._beyond}" if self.through else ">= 0"
            self._because(Reason.TARGET, f"{self.way} * (p_open - target) {far}")
        with w.when("reason > 0"):
            self._leave("p_open", "reason", "0", Moment.OPEN)

    def _because(self, reason: Reason, condition: str) -> None:
        self.w.set("reason", either(str(reason.number), f"reason == 0 and {condition}", "reason"))

    def _order(self) -> None:
        """An order in force, while there is no position."""
        w = self.w
        if not self.has(_W.ENTER_AT):
            self._fill("p_open")
            return
        w.fresh("got", either("p_open", f"order == {Order.MARKET}", "none"))
        with w.when(f"order > {Order.MARKET}"):
            # Prices come down to a limit of a long and to a stop entry of a short, and up to the others.
            w.let("falls", f"(if order == {Order.LIMIT} then {self.o_way} else -{self.o_way}) > 0")
            for name, falling, rising in (("as_good", "p_open", "p_open"), ("comes", "p_low", "p_high")):
                reached = f"if falls then {falling} <= o_price else {rising} >= o_price"
                if self.through:
                    beyond = (
                        f"if falls then {falling} < o_price - {self._beyond} else {rising} > o_price + {self._beyond}"
                    )
                    reached = f"if order == {Order.LIMIT} then ({beyond}) else ({reached})"
                w.let(name, reached)
            w.set("got", either("p_open", "as_good", either("o_price", "comes", "none")))
            w.set("inside", either("0", "as_good", "order"))
        with w.when("known(got)"):
            self._fill("got")

    def _fill(self, price: str) -> None:
        """Fills the order, unless its stop or target is reached already at the fill price."""
        w = self.w
        w.fresh("f_price", price)
        if self.has_stop:
            w.fresh("f_stop", "none")
            for candidate in self._first_stops():
                self.tighten("f_stop", candidate, self.o_way)
        w.fresh("f_risk", "abs(f_price - f_stop)" if self.has_stop else "none")
        if self.has_target:
            w.fresh("f_near", "none")
            for candidate in self._fixed_targets(
                "f_price", self.o_way, "f_risk", "o_target_n", "o_target_d", "o_target_r"
            ):
                self.nearer("f_near", candidate, self.o_way)
            w.fresh("f_target", "f_near")
            if self.has(_W.TARGET_AT):
                self.nearer("f_target", "o_target_p", self.o_way)
        touched = [f"{self.o_way} * (f_price - f_stop) <= 0"] * self.has_stop
        touched += [f"{self.o_way} * (f_target - f_price) <= 0"] * self.has_target
        with w.when(" or ".join(touched) or "no"):
            w.append(self.log, str(Event.TOUCHED.value), "place", "bar - o_bar", "o_trade", "f_price")
        with w.otherwise():
            self._open()
        w.set("order", "0")

    def _open(self) -> None:
        w = self.w
        made = {
            "side": "o_side",
            "active": "o_trade",
            "entry": "f_price",
            "held": "0",
            "best": "f_price",
            "against": "f_price",
            "leaving": "0",
            "in_bar": "place",
            "in_ago": "bar - o_bar",
            "in_order": f"order + (if inside > 0 then {INSIDE} else 0)",
        }
        if self.has_stop:
            made |= {"stop": "f_stop", "risk": "f_risk", "in_risk": "f_risk"}
        if self.has_target:
            made |= {"target": "f_target", "near_target": "f_near"}
        if self.has(_W.TARGET_AT):
            made["aimed"] = "o_target_p"
        if self.has(_W.TARGET_RISKS):
            made["target_risks"] = "o_target_n"
        if self.has_guard:
            made |= {"guard": self._guard(), "guard_risks": "o_guard_n" if self.has(_W.PROTECT_RISKS) else "none"}
        for word, name in ((_W.MOST, "most"), (_W.FLAT_BY, "by"), (_W.FLAT_AT_END, "at_end"), (_W.PAUSE, "pause")):
            if self.has(word):
                made[name] = f"o_{name}"
        if self.has(_W.RANK):
            made["in_rank"] = "o_rank"
        w.set_all(made)
        w.append(self.log, str(Event.OPEN.value), *_OF_ENTRY, is_open=True)

    def _guard(self) -> str:
        """How far the best price must get for the stop to go to the fill price, as a distance; none without."""
        if not self.has(_W.PROTECT):
            return "none"
        return "o_guard_d else o_guard_r * f_price"

    def _first_stops(self) -> list[str]:
        """The stops of an order at its fill, each rounded to a tick to the trader's disadvantage."""
        made = []
        if self.has(_W.STOP):
            made.append(f"f_price - {self.o_way} * (o_stop_d else o_stop_r * f_price)")
        if self.has(_W.TRAIL):
            made.append(f"f_price - {self.o_way} * (o_trail_d else o_trail_r * f_price)")
        rounded = [self.rounded(text, self.o_short) for text in made]
        return [*rounded, *(["o_stop_p"] if self.has(_W.STOP_AT) else [])]

    def _fixed_targets(self, price: str, side: str, risk: str, risks: str, away: str, ratio: str) -> list[str]:
        """Targets that do not move, rounded."""
        made = []
        if self.has(_W.TARGET):
            made.append(f"{price} + {side} * ({away} else {ratio} * {price})")
        if self.has(_W.TARGET_RISKS):
            made.append(f"{price} + {side} * {risks} * {risk}")
        return [self.rounded(text, self.o_short) for text in made]

    def _inside(self) -> None:
        """The stop and the target within the bar; where both are reached the stop counts."""
        w = self.w
        w.let("stopped", f"if {self.long} then p_low <= stop else p_high >= stop")
        reached = f"if {self.long} then p_high >= target else p_low <= target"
        if self.through:
            reached = f"if {self.long} then p_high > target + {self._beyond} else p_low < target - {self._beyond}"
        w.let("reached", f"({reached}) and inside != {Order.LIMIT}")
        with w.when("stopped or reached"):
            w.fresh("x_price", "if stopped then stop else target")
            w.fresh("x_reason", f"if stopped then {Reason.STOP.number} else {Reason.TARGET.number}")
            self._leave("x_price", "x_reason", "if stopped and reached then 1 else 0", Moment.INSIDE)

    def _session_end(self) -> None:
        w = self.w
        with w.when("side != 0 and last_of_session and known(close)"):
            w.fresh("x_reason", either(str(Reason.SESSION.number), "at_end == 1", "0"))
            w.set("x_reason", either(str(Reason.CLOCK.number), "x_reason == 0 and known(by)", "x_reason"))
            with w.when("x_reason > 0"):
                self._leave("close", "x_reason", "0", Moment.CLOSE)

    def _leave(self, price: str, reason: str, undecided: str, moment: Moment) -> None:
        w = self.w
        how = f"{moment.value} + {UNDECIDED} * ({undecided})"
        of_exit = ("place", price, reason, how, "best", "against")
        w.append(self.log, str(Event.CLOSED.value), *_OF_ENTRY, *of_exit)
        if self.has(_W.PAUSE):
            for k in range(1, self.trades + 1):
                w.set(f"rest_{k}", either("pause + 1", f"active == {k} and known(pause)", f"rest_{k}"))
        w.set_all(
            {
                "side": "0",
                "active": "0",
                "leaving": "0",
                "entry": "none",
                "held": "none",
                "best": "none",
                "against": "none",
            }
        )
        if self.has_stop:
            w.set_all({"stop": "none", "risk": "none"})
        if self.has_target:
            w.set_all({"target": "none", "near_target": "none"})

    # --- the close --------------------------------------------------------------------------------

    def move_stops(self, trade: int, values: dict[TradeWord, str], ratios: frozenset[TradeWord]) -> None:
        """What the values of this bar do to the stop and the target of a trade that is held at its close."""
        moving = {_W.STOP_AT, _W.TRAIL, _W.TARGET_AT, _W.PROTECT, _W.PROTECT_RISKS} & values.keys()
        if not moving:
            return
        w = self.w
        with w.when(f"active == {trade}"):
            if _W.PROTECT in values or _W.PROTECT_RISKS in values:
                enough = f"{self.way} * (best - entry) >= (guard else guard_risks * risk)"
                self.tighten("stop", self.rounded(either("entry", enough, "none"), self.short), self.way)
            stops = [values[_W.STOP_AT]] if _W.STOP_AT in values else []
            if _W.TRAIL in values:
                away = f"{values[_W.TRAIL]}{' * best' if _W.TRAIL in ratios else ''}"
                stops.append(f"best - {self.way} * {away}")
            if stops:
                self._first_risk(stops)
            for k, stop in enumerate(stops):
                w.let(f"new_stop_{trade}_{k}", stop)
                # Rounding takes time and makes no stop tighter.
                with w.when(f"({self.beyond(f'new_stop_{trade}_{k}', 'stop', self.way)}) else yes"):
                    self.tighten("stop", self.rounded(f"new_stop_{trade}_{k}", self.short), self.way)
            if _W.TARGET_AT in values:
                aim = self.rounded(values[_W.TARGET_AT], self.short)
                w.set("aimed", either(aim, f"known({aim})", "aimed"))
                w.set("target", "near_target")
                self.nearer("target", "aimed", self.way)

    def _first_risk(self, stops: list[str]) -> None:
        """A risk that becomes known only after the fill, and the target that is counted in it.

        A stop that only protects what was gained is no risk, and what comes after one is not the first in force.
        """
        w = self.w
        with w.when(f"not known(risk) and ({self.way} * (entry - stop) > 0 or not known(stop))"):
            w.fresh("first_stop", "none")
            for stop in stops:
                self.tighten("first_stop", self.rounded(stop, self.short), self.way)
            with w.when(f"{self.way} * (entry - first_stop) > 0"):
                w.set("risk", "abs(entry - first_stop)")
                if self.has(_W.TARGET_RISKS):
                    name = self.rounded(f"entry + {self.way} * target_risks * risk", self.short)
                    self.nearer("near_target", name, self.way)
                    self.nearer("target", name, self.way)


#: The fields of an entry in a row of the log, in the order of its columns.
_OF_ENTRY = ("in_bar", "in_ago", "active", "entry", "in_order", "in_rank", "in_risk", "risk")
_CARRIED: dict[TradeWord, tuple[str, ...]] = {
    _W.STOP: ("o_stop_d", "o_stop_r"),
    _W.STOP_AT: ("o_stop_p",),
    _W.TRAIL: ("o_trail_d", "o_trail_r"),
    _W.TARGET: ("o_target_d", "o_target_r"),
    _W.TARGET_AT: ("o_target_p",),
    _W.TARGET_RISKS: ("o_target_n",),
    _W.PROTECT: ("o_guard_d", "o_guard_r"),
    _W.PROTECT_RISKS: ("o_guard_n",),
    _W.MOST: ("o_most",),
    _W.FLAT_BY: ("o_by",),
    _W.FLAT_AT_END: ("o_at_end",),
    _W.PAUSE: ("o_pause",),
    _W.RANK: ("o_rank",),
}
