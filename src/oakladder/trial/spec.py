"""A rule with something changed about it, to be looked at beside the plain rule."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum

from oakladder.bars.timeframes import Timeframe
from oakladder.rung.problems import RunProblem
from oakladder.trial.broker.money import Account, Slippage, parse_ratio
from oakladder.trial.rewrite import swapped, turned_round, with_stop, with_trades


class ChangeKind(StrEnum):
    """What can be changed."""

    SETTING = "setting"
    TIMEFRAME = "timeframe"
    LIST = "list"
    COST = "cost"
    SLIPPAGE = "slippage"
    SWAPPED = "swapped"
    TURNED = "turned"
    STOP = "stop"
    THROUGH = "through"


@dataclass(frozen=True, slots=True)
class TrialSpec:
    """All that a trial depends on: a text with trades, its settings, list and timeframe, the account."""

    text: str
    settings: Mapping[str, object] = field(default_factory=dict)
    list_name: str = ""
    timeframe: str = "1d"
    account: Account = field(default_factory=Account)
    finer: bool = False


@dataclass(frozen=True, slots=True)
class Change:
    """One thing that is changed: what, of what name (a setting), into what."""

    what: ChangeKind
    value: str = ""
    name: str = ""

    def words(self) -> str:
        """The change in a few words."""
        match self.what:
            case ChangeKind.SETTING:
                return f"{self.name} {self.value}"
            case ChangeKind.TIMEFRAME:
                return f"on {self.value}"
            case ChangeKind.LIST:
                return f"on {self.value}"
            case ChangeKind.COST:
                return f"commission {self.value}"
            case ChangeKind.SLIPPAGE:
                return f"slippage {self.value}"
            case ChangeKind.SWAPPED:
                return "reversed long/short"
            case ChangeKind.TURNED:
                return "inverted condition"
            case ChangeKind.STOP:
                return f"stop {self.value}"
            case ChangeKind.THROUGH:
                return "limits traded through"

    def of(self, case: TrialSpec) -> TrialSpec:
        """The case with the change. Raises `RunProblem` or `ValueError` where it makes no sense."""
        match self.what:
            case ChangeKind.SETTING:
                return replace(case, settings={**case.settings, self.name: self.value})
            case ChangeKind.TIMEFRAME:
                return replace(case, timeframe=str(Timeframe.parse(self.value)))
            case ChangeKind.LIST:
                return replace(case, list_name=self.value)
            case ChangeKind.COST:
                costs = replace(case.account.costs, ratio=parse_ratio(self.value))
                return replace(case, account=replace(case.account, costs=costs))
            case ChangeKind.SLIPPAGE:
                costs = replace(case.account.costs, slippage=Slippage.parse(self.value))
                return replace(case, account=replace(case.account, costs=costs))
            case ChangeKind.SWAPPED:
                return replace(case, text=with_trades(case.text, swapped))
            case ChangeKind.TURNED:
                return replace(case, text=with_trades(case.text, turned_round))
            case ChangeKind.STOP:
                return replace(case, text=with_trades(case.text, with_stop(self.value)))
            case ChangeKind.THROUGH:
                return replace(case, account=replace(case.account, through=True))

    def as_plain(self) -> dict[str, str]:
        """As it is written down."""
        return {"what": self.what.value, "value": self.value, "name": self.name}


def read_changes(plain: object) -> list[Change]:
    """Changes as they were written down; what makes no sense is left out."""
    made = []
    for one in plain if isinstance(plain, list) else []:
        if isinstance(one, dict) and one.get("what") in set(ChangeKind):
            made.append(Change(ChangeKind(one["what"]), str(one.get("value", "")), str(one.get("name", ""))))
    return made


def check_change(change: Change, case: TrialSpec) -> None:
    """Raises `RunProblem` with a sentence where a change makes no sense."""
    try:
        change.of(case)
    except ValueError as error:
        raise RunProblem(str(error)) from None
