"""Column names as devices and people write them, in one table; units in headers; which column is what."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass

from wintry_tally.core.trace.beside import PACK_C, cell_number, named_by

FIELDS = (
    *("time", "date", "frame", "voltage", "current", "temperature", "counter_Ah", "counter_Wh", "power"),
    *("charge_state", "channel", "state"),
)

SPELLINGS: dict[str, tuple[str, ...]] = {
    "time": (
        *(
            "test time",
            "elapsed time",
            "elapsed",
            "total time",
            "run time",
            "runtime",
            "timestamp",
            "ts",
            "record time",
            "sample time",
            "time stamp",
        ),
        *("datetime", "date time", "date and time", "time", "t", "zeit", "zeitstempel", "laufzeit", "datum zeit"),
        *("temps", "heure", "horodatage", "tiempo", "hora", "fecha hora", "tempo", "ora", "tijd", "tijdstip", "czas"),
        *(
            "tid",
            "tidpunkt",
            "zeitpunkt",
            "h mm ss",
            "hh mm ss",
            "hh mm",
            "h m s",
            "hms",
            "aika",
            "epoch",
            "unix time",
            "clock",
            "uhrzeit",
        ),
    ),
    "frame": (
        *("frame", "frame number", "frame no", "photo", "photo number", "photo no", "picture", "image", "image number"),
        *("bild", "bildnummer", "foto", "fotonummer", "imagen", "immagine", "beeld"),
    ),
    "charge_state": (
        *("soc", "state of charge", "charge level", "battery level", "ladezustand", "etat de charge"),
        *("estado de carga", "stato di carica", "laadtoestand", "level"),
    ),
    "channel": (
        *("channel", "channel no", "channel number", "channel id", "chan", "ch", "ch no", "slot", "slot no", "kanal"),
        *("messkanal", "kanal nr", "canal", "canale", "kanaal", "kanava"),
    ),
    "date": ("date", "datum", "fecha", "data", "dato", "pvm", "jour"),
    "voltage": (
        *("voltage", "battery voltage", "pack voltage", "terminal voltage", "volts", "volt", "v", "u", "vbat", "ubat"),
        *("spannung", "batteriespannung", "klemmenspannung", "tension", "tension batterie", "voltaje", "tensione"),
        *(
            "spanning",
            "napiecie",
            "spanning accu",
            "spaenning",
            "jannite",
            "batt v",
            "bat voltage",
            "v batt",
            "total voltage",
            *("vavg", "v avg", "voltage avg", "avg voltage", "mean voltage", "average voltage", "uavg"),
        ),
    ),
    "current": (
        *("current", "battery current", "pack current", "discharge current", "load current", "amps", "ampere"),
        *("amperes", "a", "i", "ibat", "strom", "batteriestrom", "entladestrom", "laststrom", "courant", "intensite"),
        *("corriente", "corrente", "stroom", "prad", "strom akku", "virta", "batt a", "amp"),
        *("iavg", "i avg", "current avg", "avg current", "mean current", "average current"),
    ),
    "temperature": (
        *("temperature", "temp", "battery temperature", "case temperature", "temperatur", "temperatura", "t1", "temp1"),
        *("temperatuur", "lampotila", "batterietemperatur", "surface temperature", "core", "case", "surface", "probe"),
        *("cell temperature", "gehausetemperatur", "kerntemperatur"),
        *("t bat", "t batt", "t battery", "t cell", "t case", "t core", "t pack", "tbat", "tbatt", "tcell", "tcase"),
    ),
    "counter_Ah": (
        *(
            "capacity",
            "charge",
            "ah",
            "amp hours",
            "amphours",
            "counter",
            "discharge capacity",
            "consumed ah",
            "coulombs",
        ),
        *("ah remaining", "ah left", "remaining ah", "remaining capacity", "capacity left", "capacity remaining"),
        *(
            "ah out",
            "ah in",
            "restkapazitat",
            "kapazitat",
            "ladung",
            "capacite",
            "capacidad",
            "capacita",
            "capaciteit",
            "ladungsmenge",
            "consumed",
            "mah",
        ),
        *(
            "cumulative capacity",
            "accumulated capacity",
            "used ah",
            "drawn",
            "discharged capacity",
            "entnommene ladung",
        ),
    ),
    "counter_Wh": (
        *("energy", "wh", "watt hours", "watthours", "discharge energy", "energie", "energia", "cumulative energy"),
        *("accumulated energy", "consumed energy", "entnommene energie"),
    ),
    "state": (
        *("state", "mode", "status", "step type", "step name", "work mode", "work state", "direction", "type"),
        *("zustand", "modus", "betriebsart", "richtung", "etat", "estado", "stato"),
    ),
    "power": ("power", "watts", "watt", "w", "p", "leistung", "puissance", "potencia", "potenza", "vermogen", "moc"),
}
"""Field to the names it goes by, plain letters; earlier in the list is surer."""

SCALES: dict[str, dict[str, float]] = {
    "time": {
        "s": 1.0,
        "sec": 1.0,
        "secs": 1.0,
        "second": 1.0,
        "seconds": 1.0,
        "sek": 1.0,
        "ms": 1e-3,
        "us": 1e-6,
        "min": 60.0,
        "mins": 60.0,
        "minute": 60.0,
        "minutes": 60.0,
        "m": 60.0,
        "h": 3600.0,
        "hr": 3600.0,
        "hrs": 3600.0,
        "hour": 3600.0,
        "hours": 3600.0,
        "std": 3600.0,
        "d": 86400.0,
        "days": 86400.0,
    },
    "voltage": {"v": 1.0, "volt": 1.0, "volts": 1.0, "vdc": 1.0, "mv": 1e-3, "uv": 1e-6},
    "current": {"a": 1.0, "amp": 1.0, "amps": 1.0, "ampere": 1.0, "adc": 1.0, "ca": 1e-2, "ma": 1e-3, "ua": 1e-6},
    "temperature": {"c": 1.0, "degc": 1.0, "°c": 1.0, "celsius": 1.0, "f": 5 / 9, "degf": 5 / 9, "°f": 5 / 9, "k": 1.0},
    "counter_Ah": {"ah": 1.0, "mah": 1e-3, "as": 1 / 3600, "c": 1 / 3600},
    "counter_Wh": {"wh": 1.0, "mwh": 1e-3, "kwh": 1e3, "j": 1 / 3600, "ws": 1 / 3600},
    "charge_state": {"%": 1.0, "percent": 1.0},
    "power": {"w": 1.0, "mw": 1e-3, "kw": 1e3, "watt": 1.0, "watts": 1.0},
}
SHIFTS = {"f": -160 / 9, "degf": -160 / 9, "°f": -160 / 9, "k": -273.15}

_UNIT = re.compile(
    r"^(?P<name>.*?)\s*(?:\(\s*(?P<a>[^()]*)\s*\)|\[\s*(?P<b>[^\[\]]*)\s*\]|/\s*(?P<c>[^/]+)|,\s*(?P<d>[^,]+))\s*$"
)


@dataclass(frozen=True)
class Header:
    """One column's header, taken apart."""

    text: str
    name: str
    unit: str


def plain(text: str) -> str:
    """Lower-case letters and digits with single spaces, accents taken off."""
    flat = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    flat = re.sub(r"([a-z])([A-Z])", r"\1 \2", flat)
    return " ".join(re.sub(r"[^A-Za-z0-9]+", " ", flat).lower().split())


def parse_header(text: str, unit_below: str = "") -> Header:
    """Name and unit of a header: "Voltage / V", "U [mV]", "Current(A)", "voltage_mV", "Ah", or a unit row below."""
    stripped = text.strip().strip('"').strip().lstrip("#").strip()
    for field in ("time", "voltage", "current", "counter_Ah", "counter_Wh", "power"):
        # a header that is nothing but a unit ("mV", "ms") names its field by it
        word = stripped.lower()
        if word in SCALES[field] and (len(word) > 1 or word in {"s", "h"}) and word not in SPELLINGS[field]:
            return Header(stripped, SPELLINGS[field][0], stripped)
    unit = unit_below.strip().strip('"').strip("[]() ")
    match = _UNIT.match(stripped)
    if match and match["name"]:
        found = next((match[key] for key in "abcd" if match[key] is not None), "").strip()
        if any(found.lower() in scales for scales in SCALES.values()) or found.lower() in {"°c", "°f", "℃", "℉"}:
            return Header(stripped, plain(match["name"]), found.replace("℃", "°C").replace("℉", "°F"))
    pieces = re.split(r"[ _]+", stripped)
    if len(pieces) > 1 and not unit:
        tail = pieces[-1].lower()
        if any(tail in scales for scales in SCALES.values()) and (len(tail) <= 5 or tail in SCALES["time"]):
            return Header(stripped, plain(" ".join(pieces[:-1])), pieces[-1])
    return Header(stripped, plain(stripped), unit)


LETTERS = {"voltage": {"v", "u"}, "current": {"a", "i"}}
CAPITAL_T = {"time": 6.0, "temperature": 5.0}


def field_scores(header: Header) -> dict[str, float]:
    """How well a header fits each field; higher is surer, absent is not at all."""
    scores: dict[str, float] = {}
    unit = header.unit.lower()
    for field in FIELDS:
        names = SPELLINGS[field]
        score = 0.0
        if header.name in names:
            score = 10.0 - 0.01 * names.index(header.name)
        else:
            words = header.name.split()
            for rank, name in enumerate(names):
                parts = name.split()
                if len(name) > 2 and all(part in words for part in parts):
                    score = max(score, 4.0 + len(parts) - 0.01 * rank)
            if not score and 1 < len(words) <= 3 and LETTERS.get(field, set()) & set(words):
                score = 3.0  # "V sense", "I bat"
        scales = SCALES.get(field, {})
        if unit and field in SCALES:
            if unit == "c" and field == "counter_Ah" and not score:
                score = 0.0  # a C behind a name is a temperature, unless the name counts
            elif unit in scales or unit in {"°c", "°f"} & set(scales):
                score = score + 3.0 if score else (1.5 if field not in {"time"} else 0.5)
            elif any(unit in other for other in SCALES.values()):
                # no clock counts in degrees or volts, whatever letter it goes by
                score = 0.0 if field == "time" else score - 8.0
        if field == "voltage" and re.search(r"\bcell\b|\bzelle\b|\bmin\b|\bmax\b|\bset\b", header.name):
            score -= 3.0
        if field == "voltage" and re.search(r"\bload\b|\bsource\b|\bsupply\b|\bcharger\b|\blast\b", header.name):
            score -= 1.0  # where another is there, the battery's own terminals are meant
        if header.text.strip() == "T" and field in CAPITAL_T:
            score = CAPITAL_T[field]  # where another column tells the time, it is how warm it was
        if field == "current" and re.search(r"\bset\b|\bmax\b|\blimit\b", header.name):
            score -= 3.0
        if score > 0.0:
            scores[field] = score
    return scores


def assign(headers: list[Header]) -> dict[str, int]:
    """Field to column index: the best fit first, each column and each field once.

    A second meter's columns are not the first's; of several cells none is the pack (one alone is what was tested).
    """
    known = {index: found[0] for index, header in enumerate(headers) if (found := named_by(header.text)) is not None}
    cells = [index for index, name in known.items() if cell_number(name) is not None]
    apart = (
        set(known)
        - (set(cells) if len(cells) == 1 else set())
        - {n for n, name in known.items() if name == PACK_C.name}
    )
    offers = [
        (score, -index, field, index)
        for index, header in enumerate(headers)
        if index not in apart
        for field, score in field_scores(header).items()
    ]
    chosen: dict[str, int] = {}
    taken: set[int] = set()
    for _, _, field, index in sorted(offers, reverse=True):
        if field not in chosen and index not in taken:
            chosen[field] = index
            taken.add(index)
    return chosen


def scale_of(field: str, unit: str) -> tuple[float, float]:
    """Factor and shift from a header's unit to the kept one; (1, 0) where the unit is absent or unknown."""
    key = unit.lower().replace("µ", "u")
    return SCALES.get(field, {}).get(key, 1.0), SHIFTS.get(key, 0.0) if field == "temperature" else 0.0
