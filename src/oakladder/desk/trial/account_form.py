"""The terms of a trial: money, sizes, costs, and how bars are walked through. It folds away."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QDoubleSpinBox,
    QFrame,
    QGridLayout,
    QLabel,
    QLineEdit,
    QSpinBox,
    QWidget,
)

from oakladder.desk.look.spacing import GAP, WIDE
from oakladder.rung import RunProblem
from oakladder.trial.broker.money import (
    MOST_MONEY,
    MOST_POSITIONS,
    MOST_POWER,
    MOST_UNITS,
    Account,
    Costs,
    Size,
    Slippage,
    parse_ratio,
)


class AccountForm(QFrame):
    """Shows an account and lets it be changed. ``changed`` tells another, ``finer_changed`` whether minutes are used,
    ``told`` a sentence about what makes no sense."""

    changed = pyqtSignal(object)
    finer_changed = pyqtSignal(bool)
    told = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent, objectName="standing")
        self._account = Account()
        self.money, self.lot, self.power, self.fixed, self.per_unit = (QDoubleSpinBox() for _ in range(5))
        self.sizing, self.cost, self.slip = QLineEdit(), QLineEdit(), QLineEdit()
        self.financing, self.borrow, self.currency = QLineEdit(), QLineEdit(), QLineEdit()
        self.most = QSpinBox()
        self.apart = QCheckBox("separate account for each symbol")
        self.finer = QCheckBox("use minute bars within each bar where available")
        self.through = QCheckBox("limits need trading through")
        self.through.setToolTip(
            "A limit or target fills only where prices go at least a tick beyond it; add it as a variant to see what that changes"
        )
        self.money.setRange(0.01, MOST_MONEY)
        self.money.setGroupSeparatorShown(True)
        self.lot.setRange(0.000001, MOST_UNITS)
        self.lot.setDecimals(6)
        self.power.setRange(0.01, MOST_POWER)
        self.most.setRange(0, MOST_POSITIONS)
        self.most.setSpecialValueText("no limit")
        for spin in (self.fixed, self.per_unit):
            spin.setRange(0, MOST_UNITS)
            spin.setDecimals(4)
        self.sizing.setPlaceholderText("default")
        self.sizing.setToolTip(
            "100% of equity, 5000m money, 100u units, 1%r of equity at risk; empty: all of it for one symbol, a tenth for many"
        )
        self.financing.setToolTip("What holding a long position costs a year, as a share of what was paid, such as 4%")
        self.borrow.setToolTip("What holding a short position costs a year, as a share of what was got, such as 2%")
        self.currency.setPlaceholderText("as symbols")
        self.currency.setToolTip(
            "The account's currency; symbols with prices in another need a pair of the two in the library"
        )
        self.cost.setToolTip("Share of each fill's value, such as 0.05%")
        self.slip.setToolTip(
            "How much worse market and stop fills are: 1t (ticks), 0.02%, 10%range (of the bar's high to low), 0.5%volume (of the "
            "price, for a fill as large as the bar's volume), or several as in 1t+10%range"
        )
        self._lay_out()
        for box in (self.money, self.lot, self.power, self.fixed, self.per_unit):
            box.setKeyboardTracking(False)
            box.valueChanged.connect(lambda _: self._tell())
        self.most.setKeyboardTracking(False)
        self.most.valueChanged.connect(lambda _: self._tell())
        for line in (self.sizing, self.cost, self.slip, self.financing, self.borrow, self.currency):
            line.editingFinished.connect(self._tell)
        self.apart.toggled.connect(lambda _: self._tell())
        self.through.toggled.connect(lambda _: self._tell())
        self.finer.toggled.connect(self.finer_changed)

    def _lay_out(self) -> None:
        grid = QGridLayout(self)
        grid.setContentsMargins(WIDE, GAP, WIDE, GAP)
        grid.setHorizontalSpacing(WIDE)
        columns: tuple[tuple[tuple[str, QWidget], ...], ...] = (
            (("Starting money", self.money), ("Position size", self.sizing), ("Lot", self.lot)),
            (("Max open positions", self.most), ("Buying power", self.power), ("Slippage", self.slip)),
            (("Commission", self.cost), ("plus per fill", self.fixed), ("plus per unit", self.per_unit)),
            (("Financing a year", self.financing), ("Borrow rate a year", self.borrow), ("Currency", self.currency)),
        )
        for k, fields in enumerate(columns):
            for row, (words, field) in enumerate(fields):
                field.setFixedWidth(104)
                field.setAccessibleName(words)
                grid.addWidget(QLabel(words, objectName="quiet"), row, 2 * k)
                grid.addWidget(field, row, 2 * k + 1)
        grid.addWidget(self.apart, 3, 0, 1, 2)
        grid.addWidget(self.through, 3, 2, 1, 2)
        grid.addWidget(self.finer, 3, 4, 1, 4)
        grid.setColumnStretch(2 * len(columns), 1)

    def show_account(self, account: Account, finer: bool) -> None:
        """Shows an account without emitting signals."""
        self._account = account
        fields = (*self.findChildren(QWidget), self)
        for field in fields:
            field.blockSignals(True)
        self.money.setValue(account.money)
        self.lot.setValue(account.lot)
        self.power.setValue(account.power)
        self.fixed.setValue(account.costs.fixed)
        self.per_unit.setValue(account.costs.per_unit)
        self.most.setValue(account.most or 0)
        self.sizing.setText(str(account.size) if account.size is not None else "")
        self.cost.setText(f"{account.costs.ratio * 100:g}%")
        self.slip.setText(str(account.costs.slippage))
        self.financing.setText(f"{account.costs.financing * 100:g}%")
        self.borrow.setText(f"{account.costs.borrow * 100:g}%")
        self.currency.setText(account.currency)
        self.apart.setChecked(account.apart)
        self.through.setChecked(account.through)
        self.finer.setChecked(finer)
        for field in fields:
            field.blockSignals(False)

    def _tell(self) -> None:
        """Tells the account as it is shown, if it makes sense; else says what does not."""
        try:
            size = self.sizing.text().strip()
            costs = Costs(
                self.fixed.value(),
                self.per_unit.value(),
                parse_ratio(self.cost.text()),
                Slippage.parse(self.slip.text()),
                parse_ratio(self.financing.text() or "0"),
                parse_ratio(self.borrow.text() or "0"),
            )
            made = replace(
                self._account,
                money=self.money.value(),
                size=Size.parse(size) if size else None,
                lot=self.lot.value(),
                most=self.most.value() or None,
                power=self.power.value(),
                costs=costs,
                apart=self.apart.isChecked(),
                through=self.through.isChecked(),
                currency=self.currency.text().strip(),
            )
            made.check()
        except RunProblem as error:
            self.told.emit(str(error))
            return
        if made != self._account:
            self._account = made
            self.changed.emit(made)
