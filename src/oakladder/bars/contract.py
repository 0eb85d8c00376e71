"""What one unit of a symbol is: how much of its price it is worth, in which currency, and what it ties up."""

from __future__ import annotations

from dataclasses import dataclass

#: What a multiplier, and a sum of money that a unit ties up, are at most.
MOST = 1e9


@dataclass(frozen=True, slots=True)
class Contract:
    """The terms of one unit. A share is worth its price and ties it up; a future is worth so many times its price, and ties up
    a share of that, or a sum of money."""

    multiplier: float = 1.0
    #: Empty where it is the currency of the account.
    currency: str = ""
    #: The share of its value that a position ties up, and money for each unit beside that.
    margin: float = 1.0
    margin_money: float = 0.0

    @property
    def is_sound(self) -> bool:
        """Whether the numbers make sense."""
        return (
            0 < self.multiplier <= MOST
            and 0 <= self.margin <= 1
            and 0 <= self.margin_money <= MOST
            and self.margin + self.margin_money > 0
        )


#: A share in the currency of the account.
PLAIN = Contract()


def contract_words(contract: Contract) -> list[str]:
    """What is otherwise about a unit than about a share in the account's currency, in a few words."""
    made = [f"× {contract.multiplier:g}"] if contract.multiplier != 1 else []
    made += [f"in {contract.currency}"] if contract.currency else []
    return made + ([f"margin {margin_text(contract)}"] if (contract.margin, contract.margin_money) != (1, 0) else [])


def margin_text(contract: Contract) -> str:
    """What a position ties up, as it is written: ``10%`` of its value, or ``1200`` money a unit."""
    parts = [f"{contract.margin * 100:g}%"] if contract.margin or not contract.margin_money else []
    parts += [f"{contract.margin_money:g}"] if contract.margin_money else []
    return "+".join(parts)


def parse_margin(text: str) -> tuple[float, float]:
    """The share of its value and the money a unit that a position ties up: ``10%``, ``1200`` or ``5%+300``. Raises
    `ValueError` with a sentence."""
    share = money = 0.0
    for part in text.split("+"):
        words = part.strip()
        try:
            value = float(words.removesuffix("%"))
        except ValueError:
            value = -1.0
        if not 0 <= value < float("inf"):
            raise ValueError(f"Write a margin as 10% (of the value) or 1200 (money a unit), not `{text.strip()}`.")
        if words.endswith("%"):
            share += value / 100
        else:
            money += value
    return share, money
