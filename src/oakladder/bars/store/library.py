"""The bar library on disk: one Arrow IPC file for each symbol and base timeframe, and a catalogue in SQLite.

Files are written beside their place first, then moved there, so that a reader never sees half a file.
"""

from __future__ import annotations

import contextlib
import errno
import logging
import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import pyarrow as pa

from oakladder.bars.bars import Bars
from oakladder.bars.errors import DataProblem, NoBars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of, resample_panel
from oakladder.bars.resample import resample
from oakladder.bars.shared_times import shared
from oakladder.bars.store import files
from oakladder.bars.store.access import LOCK, advance, cannot_use, note_in, place_of, place_while_moving, stamp_of
from oakladder.bars.store.background import furnished
from oakladder.bars.store.catalogue import Catalogue
from oakladder.bars.store.files import file_name, info_in, symbol_of_file
from oakladder.bars.store.folder import damaged_files, take_old_names
from oakladder.bars.store.guess import guessed_info
from oakladder.bars.store.info import OWN, SymbolInfo, SymbolInfos
from oakladder.bars.store.many import ManySymbols
from oakladder.bars.store.offsets import FileChanged, FileOffsets, Unreadable
from oakladder.bars.store.panel_reading import BarFile
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.disk import Locked, locked, set_aside, sweep, why

_log = logging.getLogger(__name__)


#: Seconds that a writer waits for others: long enough for a large library to be moved to another disk.
_PATIENCE = 6 * 3600.0
#: Seconds that a reader waits for the lock to make missing bars again.
_MAKER_PATIENCE = 10.0
#: How often in a row a library may be moved while its lock is waited for.
_MOST_TRIES = 20
#: The most bytes of bars that are remembered.
MOST_HELD = 400_000_000
#: Why a sound file may be out of reach for now: it must not pass for damaged.
_NOT_DAMAGED = {errno.EACCES, errno.EPERM, errno.EMFILE, errno.ENFILE, errno.ENOMEM, errno.EIO}
_T = TypeVar("_T")
#: Makes bars of a symbol anew where their file is missing or damaged; None for a symbol that is not its own.
Maker = Callable[[SymbolInfo, Timeframe], Bars | None]


@dataclass(frozen=True, slots=True)
class _Place:
    """A library where it is now, opened: everything that depends on its folder."""

    folder: Path
    root: str
    offsets: FileOffsets
    catalogue: Catalogue
    many: ManySymbols


class BarLibrary:
    """Bars of many symbols in one folder, which may be moved while it is open: see `access`.

    Safe to be used from several threads. Raises `DataProblem` where the folder cannot be used at all, or, without
    ``create``, where it is missing.
    """

    def __init__(self, folder: Path, *, create: bool = True):
        #: Sentences about what was damaged or set aside.
        self.notices: list[str] = []
        #: Makes missing bars again, where that can be done.
        self.maker: Maker | None = None
        self._lock = threading.Lock()
        #: Held with the library's lock by the thread that writes; how often it has taken it.
        self._turn, self._depth, self._changed = threading.RLock(), 0, False
        self._infos: dict[str, SymbolInfo] | None = None
        self._cache: OrderedDict[tuple[str, Timeframe, bool], Bars] = OrderedDict()
        self._held = 0
        #: The generations that readers have taken in, and that `fresh` has reported.
        self._read_stamp = self._told_stamp = (0, 0)
        self._told_catalogue = 0
        self._place: _Place | None = None
        self.folder = place_of(folder)
        try:
            if create:
                self.folder.mkdir(parents=True, exist_ok=True)
            elif not self.folder.is_dir():
                raise DataProblem(f"There is no library in {folder}: the folder is missing.")
            sweep(self.folder)
        except OSError as error:
            raise DataProblem(f"The folder of the bars, {self.folder}, cannot be used: {why(error)}.") from None
        self._place = self._opened()
        self._read_stamp = self._told_stamp = stamp_of(self.folder)
        self._told_catalogue = self._catalogue.stamp()
        self._finish()

    def _opened(self) -> _Place:
        folder = self.folder
        take_old_names(folder)
        catalogue = Catalogue(folder, self._infos_in_files, self.notices.append, self.changing)
        offsets = FileOffsets(folder)
        many = ManySymbols(folder, offsets, lambda: self.infos, self._bar_file)
        return _Place(folder, f"{folder}/", offsets, catalogue, many)

    @property
    def places(self) -> FileOffsets:
        """Where the columns lie in the files."""
        return self._parts.offsets

    @property
    def _catalogue(self) -> Catalogue:
        return self._parts.catalogue

    @property
    def _parts(self) -> _Place:
        assert self._place is not None
        return self._place

    def _infos_in_files(self, known: set[str]) -> Iterator[SymbolInfo]:
        """Symbols that the catalogue does not know, from their bar files."""
        found: dict[str, SymbolInfo | None] = {}
        for entry in sorted(os.listdir(self.folder)):
            symbol = symbol_of_file(entry)
            if symbol is not None and symbol not in known and found.get(symbol) is None:
                found[symbol] = info_in(self.folder / entry)
        for symbol, info in found.items():
            if info is not None and info.symbol == symbol:
                yield info
            else:
                yield guessed_info(symbol, [self.folder / file_name(symbol, minutes) for minutes in (False, True)])

    def _finish(self) -> None:
        """Settles imports that were broken off between writing the bars and the catalogue; not while one is going on."""
        if not self._catalogue.unfinished():
            return
        with contextlib.suppress(Locked, DataProblem), self.changing(patience=0):
            for info in self._catalogue.unfinished():
                there = [info_in(Path(self._file(info.symbol, base))) for base in (ONE_DAY, ONE_MINUTE)]
                if info in there:
                    self._catalogue.put([info])
                    self._changed = True
                else:
                    self._catalogue.drop_unfinished(info.symbol)

    # --- where it is, and what others have changed ------------------------------------------------

    def _follow(self) -> bool:
        """Goes where the library was moved; whether it was."""
        there = place_while_moving(self.folder)
        if there == self.folder:
            return False
        if not there.is_dir():
            raise DataProblem(
                f"The bars were moved to {there}, and that folder is missing. Bring it back, or connect its disk."
            )
        with self._turn:
            if self.folder != there:
                _log.info("the library was moved from %s to %s", self.folder, there)
                self.folder = there
                self._place = self._opened()
                self._forget_all()
                self._read_stamp = stamp_of(there)
        return True

    def _take_in(self) -> None:
        """Forgets what was remembered of an earlier generation."""
        stamp = stamp_of(self.folder)
        if stamp != self._read_stamp:
            self._read_stamp = stamp
            self._infos = None
            self._drop_stale()

    def _drop_stale(self) -> bool:
        """Forgets bars whose files have changed since they were read; whether there were any."""
        with self._lock:
            held = {(symbol, frame) for symbol, frame, _ in self._cache if frame in (ONE_MINUTE, ONE_DAY)}
        stale = {symbol for symbol, frame in held if self._is_stale(symbol, frame)}
        for symbol in stale:
            self.forget(symbol)
        return bool(stale)

    def _forget_all(self) -> None:
        self._infos = None
        with self._lock:
            self._cache, self._held = OrderedDict(), 0

    def fresh(self) -> bool:
        """Takes in what another program has changed; whether anything changed since this was last asked."""
        with contextlib.suppress(DataProblem):  # whoever reads next is told
            self._follow()
        self._take_in()
        changed, self._told_stamp = self._read_stamp != self._told_stamp, self._read_stamp
        catalogue = self._catalogue.stamp()
        if catalogue != self._told_catalogue:  # also by a program that knows no generations
            self._told_catalogue, self._infos, changed = catalogue, None, True
        return self._drop_stale() or changed

    def _is_stale(self, symbol: str, base: Timeframe) -> bool:
        """Whether a file is not the one that was read."""
        path = self._file(symbol, base)
        try:
            return not self.places.known(path).is_of(os.stat(path))
        except (OSError, pa.ArrowException, KeyError, ValueError):
            return True

    # --- catalogue --------------------------------------------------------------------------------

    def add_symbols(self, infos: Sequence[SymbolInfo]) -> None:
        """Writes symbols into the catalogue: new ones after those that are there, known ones in their place."""
        with self.changing():
            self._catalogue.put(infos)
            self._changed = True
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
            if self._follow():
                return read(self._catalogue)
            if self._catalogue.path.exists():
                raise
            with self.changing():
                self._catalogue.fill_again()
            return read(self._catalogue)

    # --- files ------------------------------------------------------------------------------------

    def path(self, symbol: str, base: Timeframe) -> Path:
        return Path(self._file(symbol, base))

    def _file(self, symbol: str, base: Timeframe) -> str:
        # Thousands are asked for at a time, and a path is slow.
        return f"{self.folder}/{file_name(symbol, base.intraday)}"

    @contextlib.contextmanager
    def changing(self, *, patience: float = _PATIENCE, cancelled: Callable[[], bool] | None = None) -> Iterator[None]:
        """Holds the library's lock: no other program or thread changes it meanwhile. A thread may take it again.

        What others have changed is taken in, and the library is followed where it was moved. Raises `DataProblem`.
        """
        with self._turn:
            if self._depth:
                yield
                return
            with contextlib.ExitStack() as stack:
                self._take_lock(stack, patience, cancelled)
                told = self._all_told()
                self._depth, self._changed = 1, False
                try:
                    yield
                finally:
                    self._depth = 0
                    if self._changed:
                        self._end_change(told)

    def _take_lock(self, stack: contextlib.ExitStack, patience: float, cancelled: Callable[[], bool] | None) -> None:
        for _ in range(_MOST_TRIES):
            folder = self.folder
            held = contextlib.ExitStack()
            try:
                held.enter_context(locked(folder / LOCK, patience, cancelled=cancelled, make_folder=False))
            except Locked as error:
                raise DataProblem(
                    f"The bars cannot be changed: {error.holder} is changing them. Try again later."
                ) from None
            except FileNotFoundError as error:
                if self._follow():
                    continue
                raise cannot_use(folder, error) from None
            except OSError as error:
                raise DataProblem(f"The bars cannot be changed: {why(error)}.") from None
            if note_in(folder) is None:
                stack.push(held)
                self._take_in()
                return
            held.close()
            self._follow()
        raise DataProblem(f"The bars of {self.folder} were moved again and again. Try again.")

    def _all_told(self) -> bool:
        """Whether `fresh` has reported every change of others."""
        return self._told_stamp == self._read_stamp and (
            self._place is None or self._told_catalogue == self._catalogue.stamp()
        )

    def _end_change(self, told: bool) -> None:
        """Ends a change with a new generation, which `fresh` does not report: it is this program's own."""
        advance(self.folder)
        self._read_stamp = stamp_of(self.folder)
        if told and self._place is not None:
            self._told_stamp, self._told_catalogue = self._read_stamp, self._catalogue.stamp()

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
        """The same for several symbols, whose bars are asked for one after the other. Broken off, those that are written
        are known at the next start. Raises `DataProblem`."""
        with self.changing():
            self._catalogue.begin(infos)
            for info in infos:
                self._write(bars_of(info), info)
            self.add_symbols(infos)

    def _write(self, bars: Bars, info: SymbolInfo) -> None:
        path = self.path(bars.symbol, bars.timeframe)
        files.write(path, bars, info)
        self._changed = True
        with contextlib.suppress(OSError, pa.ArrowException, KeyError, ValueError):
            self.places.place(str(path))
        self.forget(bars.symbol)

    def remove(self, symbol: str, base: Timeframe) -> None:
        """Deletes the stored bars of a symbol. Raises `DataProblem`."""
        with self.changing():
            try:
                self.path(symbol, base).unlink(missing_ok=True)
            except OSError as error:
                raise DataProblem(f"The {base} bars of {symbol} cannot be deleted: {why(error)}.") from None
            self._changed = True
            self.forget(symbol)

    def forget(self, symbol: str) -> None:
        """Drops what is remembered of a symbol's bars: they are otherwise now."""
        with self._lock:
            self._cache = OrderedDict((k, v) for k, v in self._cache.items() if k[0] != symbol)
            self._held = sum(map(_weight, self._cache.values()))

    def base(self, symbol: str, base: Timeframe) -> Bars:
        """The stored bars. Raises `DataProblem` if there are none; a damaged file is set aside and made again where
        that can be done."""
        calendar = self.infos[symbol].calendar

        def read(path: str) -> Bars:
            arrays = self.places.arrays(path)
            return Bars(symbol, base, calendar, shared(arrays.pop("time")), arrays)

        return self._with_file(symbol, base, read)

    def _with_file(self, symbol: str, base: Timeframe, read: Callable[[str], _T]) -> _T:
        """Reads a symbol's file, made anew where it is missing or damaged and that can be done."""
        for _ in range(3):
            path = self._file(symbol, base)
            try:
                return read(path)
            except FileNotFoundError:
                if self._follow():
                    continue
                break
            except FileChanged:
                continue
            except (pa.ArrowException, OSError, KeyError, ValueError) as error:
                self._set_aside(path, error)
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

    def _bar_file(self, symbol: str, base: Timeframe) -> BarFile:
        """A symbol's file as it is now, and where its columns lie. Raises `DataProblem`."""
        return BarFile(symbol, self._file(symbol, base), self._with_file(symbol, base, self.places.place))

    def _set_aside(self, path: str, error: Exception) -> None:
        """Keeps a damaged file under a dated name. Raises `DataProblem` where it is out of reach and not damaged."""
        name = Path(path).name
        if isinstance(error, OSError) and error.errno in _NOT_DAMAGED:
            raise DataProblem(f"{name} cannot be read: {why(error)}.") from None
        _log.warning("%s is damaged: %s", path, error)
        try:
            aside = set_aside(Path(path))
        except FileNotFoundError:
            return  # somebody else was quicker
        except OSError as reason:
            raise DataProblem(f"{name} is damaged, and cannot be moved: {why(reason)}.") from None
        self.notices.append(f"{name} was damaged and has been set aside as {aside.name}. Import its bars again.")

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars:
        """The bars of a symbol at any timeframe, put together from the stored ones; remembered.

        Raises `KeyError` for an unknown symbol, `DataProblem` where there are no such bars.
        """
        self._take_in()
        self._check(symbol, timeframe)
        return self._remembered(symbol, timeframe, extended)

    def _remembered(self, symbol: str, timeframe: Timeframe, extended: bool) -> Bars:
        key = (symbol, timeframe, extended)
        with self._lock:
            if key in self._cache:
                return self._cache[key]
        base = stored_base(timeframe)
        if timeframe != base:
            made = resample(self._remembered(symbol, base, extended and timeframe.intraday), timeframe)
        elif extended and timeframe.intraday:
            whole = self.base(symbol, base)
            made = Bars(whole.symbol, whole.timeframe, whole.calendar, whole.times, whole.columns, True)
        else:
            made = self.base(symbol, base).regular()
        with self._lock:
            if key not in self._cache:
                self._cache[key] = made
                self._held += _weight(made)
            while self._held > MOST_HELD and len(self._cache) > 1:
                self._held -= _weight(self._cache.popitem(last=False)[1])
        return made

    def stored(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> int:
        """How many stored bars a symbol has from which bars of a timeframe are made. Raises as `bars`."""
        self._check(symbol, timeframe)
        base = stored_base(timeframe)
        place = self._with_file(symbol, base, self.places.place)
        if timeframe.intraday and not extended and place.count:
            return self._parts.many.regular(BarFile(symbol, self._file(symbol, base), place), base)
        return place.count

    def at_hand(self, symbols: Sequence[str], timeframe: Timeframe, extended: bool = False) -> dict[str, int]:
        """What `stored` says of the symbols of which a look at all of them at once tells that there are such bars."""
        self._take_in()
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

        A single symbol is remembered; many are read end to end, each column when it is asked for. Raises as `bars`, and `FileChanged` where a file is replaced meanwhile.
        """
        self._take_in()
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
        self._take_in()
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
            self._follow()
        done = self._parts.many.pack(cancelled)
        self.places.flush()
        return done

    def settle(self) -> None:
        """Writes down what reading has found out about the files, so that the next time is quicker."""
        if note_in(self.folder) is None:
            self.places.flush()
            self._catalogue.settle()

    def damaged(self, cancelled: Callable[[], bool] | None = None) -> list[str]:
        """Reads every file through; gives a sentence for each that is damaged (it stays where it is), and for each of the
        user's symbols without a file."""
        self._follow()
        made = [f"{name} is damaged." for name in damaged_files(self.folder, cancelled)]
        for symbol, info in self.infos.items():
            if info.origin == OWN and not any(self.path(symbol, base).exists() for base in (ONE_DAY, ONE_MINUTE)):
                made.append(f"{symbol} has no bars: its files are missing. Import them again.")
        return made


def stored_base(timeframe: Timeframe) -> Timeframe:
    """The stored timeframe from which another is made."""
    return ONE_MINUTE if timeframe.intraday else ONE_DAY


def _weight(bars: Bars) -> int:
    """Bytes that remembering bars costs, times left out: they are shared."""
    return sum(v.nbytes for v in bars.columns.values())
