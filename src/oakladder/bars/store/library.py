"""The bar library on disk: one Arrow IPC file for each symbol and base timeframe, and a catalogue in SQLite.

Files are written beside their place first, then moved there, so that a reader never sees half a file.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TypeVar

import numpy as np
import pyarrow as pa

from oakladder.bars.bars import Bars
from oakladder.bars.errors import DataProblem, NoBars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of, resample_panel
from oakladder.bars.resample import resample
from oakladder.bars.shared_times import shared
from oakladder.bars.store import files
from oakladder.bars.store.access import cannot_use, note_in
from oakladder.bars.store.append_log import AppendLog
from oakladder.bars.store.background import furnished
from oakladder.bars.store.bar_cache import BarCache
from oakladder.bars.store.catalogue import Catalogue
from oakladder.bars.store.files import file_name, info_in
from oakladder.bars.store.folder import damaged_files, infos_in_files, set_damaged_aside, take_old_names
from oakladder.bars.store.many_symbols import ManySymbols
from oakladder.bars.store.offsets import FileChanged, FileOffsets, Unreadable
from oakladder.bars.store.panel_reading import BarFile
from oakladder.bars.store.shared_folder import PATIENCE, SharedFolder
from oakladder.bars.store.symbol_info import OWN, SymbolInfo, SymbolInfos
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.disk import sweep, why

#: Seconds that a reader waits for the lock to make missing bars again.
_MAKER_PATIENCE = 10.0
_T = TypeVar("_T")
#: Recreates the bars of a symbol whose file is missing or damaged; returns None for symbols it does not make.
Maker = Callable[[SymbolInfo, Timeframe], Bars | None]


@dataclass(frozen=True, slots=True)
class _Place:
    """A library where it is now, opened: everything that depends on its folder."""

    offsets: FileOffsets
    catalogue: Catalogue
    many: ManySymbols
    log: AppendLog


class BarLibrary:
    """Bars of many symbols in one folder, which may be moved while it is open: see `access`.

    Safe to be used from several threads. Raises `DataProblem` where the folder cannot be used at all, or, without
    ``create``, where it is missing.
    """

    def __init__(self, folder: Path, *, create: bool = True):
        #: Sentences about damaged files.
        self.notices: list[str] = []
        #: Makes missing bars again, where that can be done.
        self.maker: Maker | None = None
        self._infos: dict[str, SymbolInfo] | None = None
        self._cache = BarCache()
        self._place: _Place | None = None
        self._shared = SharedFolder(folder, self._moved, self._changed)
        try:
            if create:
                self.folder.mkdir(parents=True, exist_ok=True)
            elif not self.folder.is_dir():
                raise DataProblem(f"There is no library in {folder}: the folder is missing.")
            sweep(self.folder)
        except OSError as error:
            raise cannot_use(self.folder, error) from None
        self._place = self._opened()
        #: The states of the catalogue that `fresh` has reported, and that this program has left.
        self._told_catalogue = self._own_catalogue = self._catalogue.stamp()
        self._finish()

    @property
    def folder(self) -> Path:
        """Where the library is now."""
        return self._shared.folder

    def _opened(self) -> _Place:
        folder = self.folder
        take_old_names(folder)
        catalogue = Catalogue(folder, partial(infos_in_files, folder), self.notices.append, self.changing)
        offsets = FileOffsets(folder)
        log = AppendLog(folder)
        many = ManySymbols(folder, offsets, lambda: self.infos, self._bar_file, log)
        return _Place(offsets, catalogue, many, log)

    @property
    def offsets(self) -> FileOffsets:
        """Where the columns lie in the files."""
        return self._parts.offsets

    @property
    def log(self) -> AppendLog:
        """What came live and is not in the files yet."""
        return self._parts.log

    @property
    def _catalogue(self) -> Catalogue:
        return self._parts.catalogue

    @property
    def _parts(self) -> _Place:
        assert self._place is not None
        return self._place

    def _finish(self) -> None:
        """Settles imports that were broken off between writing the bars and the catalogue; not while one is going on."""
        if not self._catalogue.unfinished():
            return
        with contextlib.suppress(DataProblem), self.changing(patience=0):
            for info in self._catalogue.unfinished():
                there = [info_in(Path(self._file(info.symbol, base))) for base in (ONE_DAY, ONE_MINUTE)]
                if info in there:
                    self._catalogue.put([info])
                    self._shared.mark()
                else:
                    self._catalogue.drop_unfinished(info.symbol)

    # --- what others have changed -------------------------------------------------------------------

    def _moved(self) -> None:
        """The library is in another folder now."""
        self._place = self._opened()
        self._infos = None
        self._cache.clear()

    def _changed(self) -> None:
        """Another program has changed the library."""
        self._infos = None
        self._drop_stale()

    def _drop_stale(self) -> bool:
        """Forgets bars whose files have changed since they were read; whether there were any."""
        stale = {symbol for symbol, frame in self._cache.stored() if self._is_stale(symbol, frame)}
        for symbol in stale:
            self.forget(symbol)
        return bool(stale)

    def fresh(self) -> bool:
        """Takes in what another program has changed; whether anything changed since this was last asked."""
        changed = self._shared.is_fresh()
        catalogue = self._catalogue.stamp()
        if catalogue != self._told_catalogue:  # also by a program that knows no generations
            self._told_catalogue = catalogue
            if catalogue != self._own_catalogue:
                self._infos, changed = None, True
        return self._drop_stale() or changed

    def take_in(self) -> frozenset[str]:
        """Takes in what others have changed, and what came live; gives the symbols of which something did."""
        self._shared.take_in()
        came = self.log.changed()
        for symbol in came:
            self.forget(symbol)
        if self.log.trouble and self.log.trouble not in self.notices:
            self.notices.append(self.log.trouble)
        return came

    def _is_stale(self, symbol: str, base: Timeframe) -> bool:
        """Whether a file has changed since it was read."""
        path = self._file(symbol, base)
        try:
            return not self.offsets.known(path).is_of(os.stat(path))
        except (OSError, pa.ArrowException, KeyError, ValueError):
            return True

    def add_symbols(self, infos: Sequence[SymbolInfo]) -> None:
        """Writes symbols into the catalogue: appends new ones, replaces known ones."""
        with self.changing():
            self._catalogue.put(infos)
            self._shared.mark()
            if self._infos is not None:  # reading thousands again for each that is written takes longer than writing
                self._infos = SymbolInfos(self._infos | {info.symbol: info for info in infos})

    @property
    def infos(self) -> dict[str, SymbolInfo]:
        """Every symbol, in the catalogue's order. Not to be changed by callers."""
        known = self._infos
        if known is None:
            known = self._infos = self._from_catalogue(Catalogue.infos)
        return known

    def fact(self, name: str) -> str | None:
        """A remembered fact about the library."""
        return self._from_catalogue(lambda catalogue: catalogue.fact(name))

    def remember(self, name: str, value: str) -> None:
        with self.changing():
            self._catalogue.remember(name, value)

    def _from_catalogue(self, read: Callable[[Catalogue], _T]) -> _T:
        """Reads the catalogue, wherever the library has been moved; a catalogue that has gone is made again."""
        try:
            return read(self._catalogue)
        except DataProblem:
            if self._shared.follow():
                return read(self._catalogue)
            if self._catalogue.path.exists():
                raise
            with self.changing():
                self._catalogue.fill_again()
            return read(self._catalogue)

    def path(self, symbol: str, base: Timeframe) -> Path:
        return Path(self._file(symbol, base))

    def _file(self, symbol: str, base: Timeframe) -> str:
        # Thousands are asked for at a time, and a path is slow.
        return f"{self.folder}/{file_name(symbol, base.intraday)}"

    @contextlib.contextmanager
    def changing(self, *, patience: float = PATIENCE, cancelled: Callable[[], bool] | None = None) -> Iterator[None]:
        """Holds the library's lock: see `SharedFolder.changing`."""
        with self._shared.changing(patience, cancelled):
            yield
        if self._place is not None:
            self._own_catalogue = self._catalogue.stamp()

    def write(self, bars: Bars, info: SymbolInfo | None = None) -> None:
        """Puts the bars of a symbol in place of what was there, and with ``info`` what is known of it from now on.

        Bars that cannot be kept, or not be written, leave everything as it was. Raises `DataProblem`.
        """
        if info is not None:
            self.write_all([info], lambda _: bars)
            return
        with self.changing():
            self._write(bars, self.infos[bars.symbol])

    def write_all(self, infos: Sequence[SymbolInfo], bars_of: Callable[[SymbolInfo], Bars]) -> None:
        """The same for several symbols, whose bars are requested one by one. After a failure, the symbols written so far
        are known at the next start. Raises `DataProblem`."""
        with self.changing():
            self._catalogue.begin(infos)
            for info in infos:
                self._write(bars_of(info), info)
            self.add_symbols(infos)

    def _write(self, bars: Bars, info: SymbolInfo) -> None:
        path = self.path(bars.symbol, bars.timeframe)
        files.write(path, bars, info)
        self._shared.mark()
        with contextlib.suppress(OSError, pa.ArrowException, KeyError, ValueError):
            self.offsets.of(str(path))
        if len(bars):
            self.log.drop(bars.symbol, bars.timeframe, int(bars.times[-1]))
        self.forget(bars.symbol)

    def remove(self, symbol: str, base: Timeframe) -> None:
        """Deletes the stored bars of a symbol. Raises `DataProblem`."""
        with self.changing():
            try:
                self.path(symbol, base).unlink(missing_ok=True)
            except OSError as error:
                raise DataProblem(f"The {base} bars of {symbol} cannot be deleted: {why(error)}.") from None
            self.log.forget(symbol, base)
            self._shared.mark()
            self.forget(symbol)

    def forget(self, symbol: str) -> None:
        """Drops the remembered bars of a symbol: they have changed."""
        self._cache.forget(symbol)

    def base(self, symbol: str, base: Timeframe) -> Bars:
        """The stored bars, at real prices, with what came live. Raises `DataProblem` without any; a damaged file is renamed
        and recreated where that can be done."""
        self.take_in()
        calendar = self.infos[symbol].calendar
        live = self.log.tail(symbol, base)  # before the file: a fold puts it there before it drops it

        def read(path: str) -> Bars:
            arrays = self.offsets.arrays(path)
            if len(live):
                tail = live.after(int(arrays["time"][-1]) if len(arrays["time"]) else files.EARLIEST)
                arrays = {name: np.concatenate([values, tail[name]]) for name, values in arrays.items()}
            return Bars(symbol, base, calendar, shared(arrays.pop("time")), arrays)

        return self._with_file(symbol, base, read)

    def _with_file(self, symbol: str, base: Timeframe, read: Callable[[str], _T]) -> _T:
        """Reads a symbol's file, recreated if it is missing or damaged and that is possible."""
        for _ in range(3):
            path = self._file(symbol, base)
            try:
                return read(path)
            except FileNotFoundError:
                if self._shared.follow():
                    continue
                break
            except FileChanged:
                continue
            except (pa.ArrowException, OSError, KeyError, ValueError) as error:
                notice = set_damaged_aside(path, error)
                self.notices += [notice] if notice else []
                break
        else:
            raise FileChanged(f"{Path(path).name} was changed again and again while it was read. Try again.")
        info = self.infos[symbol]
        if self.maker is not None:
            with self.changing(patience=_MAKER_PATIENCE):  # a second reader finds the file that the first has made
                made = None if os.path.exists(self._file(symbol, base)) else self.maker(info, base)
                if made is not None:
                    self.write(made)
        path = self._file(symbol, base)
        if not os.path.exists(path):
            raise NoBars(f"There are no {base} bars of {symbol} in the library.")
        return read(path)

    def last_stored(self, symbol: str, base: Timeframe) -> int | None:
        """The time of the last bar in a symbol's file, UTC seconds; None without any. Raises `DataProblem`."""
        try:
            return self._parts.many.last(symbol, base)
        except NoBars:
            return None

    def _bar_file(self, symbol: str, base: Timeframe) -> BarFile:
        """A symbol's file as it is now, and where its columns lie. Raises `DataProblem`."""
        return BarFile(symbol, self._file(symbol, base), self._with_file(symbol, base, self.offsets.of))

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars:
        """The bars of a symbol at any timeframe, put together from the stored ones, at adjusted prices; remembered.

        Raises `KeyError` for an unknown symbol, `DataProblem` where there are no such bars.
        """
        self.take_in()
        self._check(symbol, timeframe)
        return self._remembered(symbol, timeframe, extended)

    def _remembered(self, symbol: str, timeframe: Timeframe, extended: bool) -> Bars:
        key = (symbol, timeframe, extended)
        known, adjustments = self._cache.get(key), self.infos[symbol].adjustments
        if known is not None and known.adjustments == adjustments:
            return known
        base = stored_base(timeframe)
        if timeframe != base:
            made = resample(self._remembered(symbol, base, extended and timeframe.intraday), timeframe)
        elif extended and timeframe.intraday:
            made = replace(self.base(symbol, base).adjusted(adjustments), extended=True)
        else:
            made = self.base(symbol, base).regular().adjusted(adjustments)
        self._cache.put(key, made)
        return made

    def stored(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> int:
        """How many stored bars a symbol has from which bars of a timeframe are made. Raises as `bars`."""
        self.take_in()
        self._check(symbol, timeframe)
        return self._parts.many.count(symbol, stored_base(timeframe), extended or not timeframe.intraday)

    def at_hand(self, symbols: Sequence[str], timeframe: Timeframe, extended: bool = False) -> dict[str, int]:
        """What `stored` says of the symbols of which a look at all of them at once tells that there are such bars."""
        self.take_in()
        infos = self.infos
        names = [s for s in symbols if s in infos and self._can_make(infos[s], timeframe)]
        return self._parts.many.at_hand(names, stored_base(timeframe), extended or not timeframe.intraday)

    def _check(self, symbol: str, timeframe: Timeframe) -> None:
        """Raises `KeyError` for an unknown symbol, `DataProblem` for a timeframe that its bars cannot make."""
        if not self._can_make(self.infos[symbol], timeframe):
            raise DataProblem(f"{symbol} has bars of {self.infos[symbol].finest}, which cannot make {timeframe}.")

    @staticmethod
    def _can_make(info: SymbolInfo, timeframe: Timeframe) -> bool:
        return info.step == 1 or not timeframe.intraday or timeframe.count % info.step == 0

    def panel(self, symbols: Iterable[str], timeframe: Timeframe, extended: bool = False) -> Panel:
        """Symbols at one timeframe as a panel; an intraday panel knows the longer bars before its first.

        A single symbol is cached; many are read end to end, each column on first use. Raises as `bars`, and
        `FileChanged` where a file is replaced meanwhile.
        """
        self.take_in()
        names, base = list(symbols), stored_base(timeframe)
        for symbol in names:
            self._check(symbol, timeframe)
        if len(names) < 2:
            made = panel_of([self.bars(s, timeframe, extended) for s in names])
        else:
            made = self._parts.many.panel(names, base, extended and timeframe.intraday)
            made = made if timeframe == base else resample_panel(made, timeframe)
        return furnished(made, self, self, extended)

    def stored_panel(self, names: list[str], base: Timeframe, extended: bool) -> Panel:
        """Stored bars of some symbols, whatever timeframes they can make; of many they are read straight from the
        files into the columns. Raises `KeyError`, `FileChanged`, or `Unreadable` for one that is in the way."""
        self.take_in()
        if len(names) < 2:
            made = panel_of([self._alone(s, base, extended) for s in names])
        else:
            made = self._parts.many.panel(names, base, extended)
        return furnished(made, self, self, extended)

    def _alone(self, symbol: str, base: Timeframe, extended: bool) -> Bars:
        try:
            return self._remembered(symbol, base, extended)
        except FileChanged:
            raise
        except DataProblem as error:
            raise Unreadable(symbol, str(error)) from None

    def pack(self, cancelled: Callable[[], bool] | None = None) -> int:
        """Copies the bars of many symbols into one file for each stored timeframe, as far as that was not done, so that
        they are read more quickly; gives how many were copied. They are derived: nothing is lost where it fails."""
        with contextlib.suppress(DataProblem):
            self._shared.follow()
        done = self._parts.many.pack(cancelled)
        self.offsets.flush()
        return done

    def settle(self) -> None:
        """Writes down what reading has found out about the files, so that the next time is quicker."""
        if note_in(self.folder) is None:
            self.offsets.flush()
            self._catalogue.settle()

    def damaged(self, cancelled: Callable[[], bool] | None = None) -> list[str]:
        """Reads every file through; gives a sentence for each that is damaged (it stays where it is), and for each of the
        user's symbols without a file."""
        self._shared.follow()
        made = [f"{name} is damaged." for name in damaged_files(self.folder, cancelled)]
        for symbol, info in self.infos.items():
            if info.origin == OWN and not any(self.path(symbol, base).exists() for base in (ONE_DAY, ONE_MINUTE)):
                made.append(f"{symbol} has no bars: its files are missing. Import them again.")
        wrong = self.log.check()
        return [*made, wrong] if wrong else made


def stored_base(timeframe: Timeframe) -> Timeframe:
    """The stored timeframe from which another is made."""
    return ONE_MINUTE if timeframe.intraday else ONE_DAY
