"""The symbols of the demo market: companies by sector, pairs, goods and an index, each with its character."""

from __future__ import annotations

import zlib
from dataclasses import dataclass

import numpy as np

from oakladder.bars.sessions import Calendar
from oakladder.bars.store.symbol_info import DEMO, SymbolInfo

#: Raised whenever the generated bars change, so that the market is made again where it was made before.
VERSION = "1"
LAST_DAY = int(np.datetime64("2026-06-30").astype("datetime64[D]").astype(np.int64))


YEARS = 6


_ZONE = "WET"  # any zone with daylight saving would do; the exchange is invented


def _holidays() -> frozenset[int]:
    """Founding day, midsummer and the turn of the year, for every year of the data."""
    days = [f"{year}-{day}" for year in range(2019, 2030) for day in ("01-01", "03-17", "06-24", "12-25", "12-26")]
    return frozenset(int(np.datetime64(d).astype(np.int64)) for d in days)


EXCHANGE = Calendar(_ZONE, 9 * 60, 15 * 60 + 30, 7 * 60 + 30, 17 * 60, holidays=_holidays())


AROUND_THE_CLOCK = Calendar(_ZONE, 0, 1440, 0, 1440)


@dataclass(frozen=True, slots=True)
class Character:
    """How a symbol behaves. Rates are per day; ``squeeze`` alternates quiet and lively weeks."""

    drift: float = 0.0002
    noise: float = 0.016
    trend: float = 0.0
    squeeze: float = 0.0
    gaps: float = 0.01
    shocks: float = 0.003
    exhaustion: float = 0.0
    price: float = 40.0
    volume: float = 400_000


_SECTORS: dict[str, tuple[Character, list[tuple[str, str]]]] = {
    "Ferries": (
        Character(trend=0.5),
        [
            ("BRINE", "Brine Strait Ferries"),
            ("CROSS", "Crossing & Quay"),
            ("GULLW", "Gullwing Lines"),
            ("HARBR", "Harbour Link"),
            ("ISLET", "Islet Hopper"),
            ("KEELS", "Keelson Passage"),
            ("LEEWD", "Leeward Boats"),
            ("NARRO", "Narrows Transit"),
            ("PILOT", "Pilot Cutter Co"),
            ("SOUND", "Soundway Ferries"),
            ("TENDR", "Tender & Launch"),
            ("WAKES", "Wake & Wash Lines"),
        ],
    ),
    "Kelp farms": (
        Character(noise=0.022, squeeze=0.6),
        [
            ("AGARS", "Agar Works"),
            ("BLADE", "Blade Kelp"),
            ("DULSE", "Dulse Holdings"),
            ("FROND", "Frond Farms"),
            ("HOLDF", "Holdfast Kelp"),
            ("CURLY", "Curly Moss Growers"),
            ("LAMIN", "Laminar Fields"),
            ("NORIE", "Norie Sheets"),
            ("RACKS", "Drying Racks"),
            ("STIPE", "Stipe & Sons"),
            ("TANGL", "Tangle Bay"),
            ("WRACK", "Wrack Line"),
        ],
    ),
    "Boatyards": (
        Character(noise=0.019, shocks=0.006),
        [
            ("ADZES", "Adze & Plane"),
            ("CAULK", "Caulkers Yard"),
            ("CLINK", "Clinker Hulls"),
            ("DRYDK", "Drydock Group"),
            ("FRAME", "Frame & Rib"),
            ("HULLS", "Northern Hulls"),
            ("LARCH", "Larch Planking"),
            ("OAKUM", "Oakum Works"),
            ("RIGGE", "Riggers United"),
            ("SLIPW", "Slipway Yard"),
            ("SPARS", "Spar Makers"),
            ("TRUNL", "Treenail Co"),
        ],
    ),
    "Lighthouses": (
        Character(noise=0.011, drift=0.0003, price=85.0, volume=150_000),
        [
            ("BEACN", "Beacon Trust"),
            ("CAPES", "Cape Lights"),
            ("DAYMK", "Daymark Services"),
            ("FOGHN", "Foghorn Signals"),
            ("GLINT", "Glint Optics"),
            ("HEADL", "Headland Keepers"),
            ("LAMPS", "Lamp & Lens"),
            ("OCCUL", "Occulting Lights"),
            ("PHARE", "Skerry Light Co"),
            ("REEFS", "Reef Markers"),
            ("SKERR", "Skerry Watch"),
            ("VIGIL", "Vigil Towers"),
        ],
    ),
    "Salt": (
        Character(noise=0.014, exhaustion=0.004, price=18.0),
        [
            ("BITTN", "Bittern Brines"),
            ("BRNPN", "Brine Pans"),
            ("CRYST", "Crystal Pans"),
            ("EVAPO", "Evaporite Co"),
            ("FLAKE", "Flake Salt"),
            ("GRAIN", "Coarse Grain"),
            ("HALIT", "Halite Mines"),
            ("PANSL", "Panhouse Salt"),
            ("RAKED", "Raked Salt"),
            ("SALTR", "Salter Brothers"),
            ("SPRAY", "Sea Spray Works"),
            ("WHITE", "White Pan"),
        ],
    ),
    "Tide power": (
        Character(noise=0.024, trend=0.8, gaps=0.02, price=27.0, volume=900_000),
        [
            ("BARAG", "Barrage One"),
            ("CURNT", "Current Turbines"),
            ("EBBFL", "Ebb & Flow"),
            ("FLOOD", "Flood Gate Power"),
            ("GYRES", "Gyre Energy"),
            ("MOONS", "Moonpull"),
            ("NEAPS", "Neap Tide"),
            ("RACES", "Tidal Race"),
            ("SLACK", "Slack Water"),
            ("SPRNG", "Spring Tide"),
            ("SURGE", "Surge Works"),
            ("SWELL", "Swell Motion"),
        ],
    ),
}


_OTHERS: list[tuple[str, str, str, str, Character, float, Calendar]] = [
    (
        "SALTX",
        "Saltmere Exchange Index",
        "Index",
        "index",
        Character(noise=0.008, trend=0.3, price=3200.0, volume=9_000_000),
        0.01,
        EXCHANGE,
    ),
    (
        "MERSHL",
        "Mere against Shell",
        "Currencies",
        "currency",
        Character(noise=0.005, drift=0.0, price=1.24, volume=50_000),
        0.0001,
        AROUND_THE_CLOCK,
    ),
    (
        "MERPRL",
        "Mere against Pearl",
        "Currencies",
        "currency",
        Character(noise=0.007, drift=0.0, price=88.4, volume=30_000),
        0.01,
        AROUND_THE_CLOCK,
    ),
    (
        "KELPG",
        "Dried kelp, tonne",
        "Goods",
        "goods",
        Character(noise=0.018, squeeze=0.5, price=412.0, volume=20_000),
        0.5,
        EXCHANGE,
    ),
    ("SALTG", "Sea salt, tonne", "Goods", "goods", Character(noise=0.012, price=96.0, volume=35_000), 0.05, EXCHANGE),
]


def symbols() -> list[SymbolInfo]:
    """Every symbol of the exchange, in the order of the first watchlist."""
    made = [
        SymbolInfo(s, name, sector, "share", 0.01, EXCHANGE, origin=DEMO)
        for sector, (_, members) in _SECTORS.items()
        for s, name in members
    ]
    return made + [
        SymbolInfo(s, name, sector, kind, tick, cal, origin=DEMO) for s, name, sector, kind, _, tick, cal in _OTHERS
    ]


def generator(symbol: str, what: str) -> np.random.Generator:
    return np.random.default_rng(zlib.crc32(f"saltmere {VERSION} {symbol} {what}".encode()))


def character_of(symbol: str) -> Character:
    for s, _, _, _, character, _, _ in _OTHERS:
        if s == symbol:
            return character
    for character, members in _SECTORS.values():
        if any(s == symbol for s, _ in members):
            rng = generator(symbol, "character")
            scale = float(np.exp(rng.normal(0, 0.45)))
            return Character(
                character.drift + rng.normal(0, 0.0003),
                character.noise * float(np.exp(rng.normal(0, 0.2))),
                character.trend,
                character.squeeze,
                character.gaps,
                character.shocks,
                character.exhaustion,
                round(character.price * scale, 2),
                round(character.volume * float(np.exp(rng.normal(0, 0.8)))),
            )
    raise KeyError(symbol)


def info_of(symbol: str) -> SymbolInfo:
    """Raises `KeyError` for a symbol that the market does not have."""
    return {i.symbol: i for i in symbols()}[symbol]
