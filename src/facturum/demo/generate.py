"""Makes the sample data: a made-up network of staffed mountain huts.

Run ``python -m facturum.demo.generate FOLDER`` to make the files anew; the same files come out every time.
"""

from __future__ import annotations

import csv
import math
import random
import sys
from datetime import date, timedelta
from pathlib import Path
from typing import Any

SEED = 20_261
FIRST_YEAR, YEARS = 2019, 5
VALLEYS = ("Amber Dale", "Birchwater", "Cold Hollow", "Dunmere")
FIRST_WORDS = ("Lark", "Ember", "Fern", "Stone", "Gale", "Willow", "Raven", "Clover", "Frost", "Thistle")
SECOND_WORDS = ("hold", "rest", "top", "shelter")
ACCESS = ("trail", "road", "cable car")
COMFORT = ("poor", "fair", "good")


class Dice:
    """Random numbers made from uniform ones alone, so that they are the same on every machine."""

    def __init__(self, seed: int) -> None:
        self._source = random.Random(seed)

    def uniform(self, low: float = 0.0, high: float = 1.0) -> float:
        return low + (high - low) * self._source.random()

    def normal(self, mean: float = 0.0, spread: float = 1.0) -> float:
        return mean + spread * (sum(self._source.random() for _ in range(12)) - 6.0)

    def chance(self, share: float) -> bool:
        return self._source.random() < share

    def pick(self, choices: tuple[str, ...], weights: tuple[float, ...]) -> str:
        at = self._source.random() * sum(weights)
        for choice, weight in zip(choices, weights, strict=True):
            at -= weight
            if at < 0:
                return choice
        return choices[-1]


def huts(dice: Dice) -> list[dict[str, Any]]:
    """Return the huts themselves: where they stand, how one gets there, what they offer."""
    huts_made = []
    for number, first in enumerate(FIRST_WORDS):
        for other, second in enumerate(SECOND_WORDS):
            access = dice.pick(ACCESS, (0.5, 0.3, 0.2))
            altitude = 10 * round(dice.normal(1900, 380) / 10)
            beds = max(8, round(dice.normal({"trail": 28, "road": 45, "cable car": 60}[access], 10)))
            comfort = dice.pick(COMFORT, {"trail": (4, 4, 2), "road": (2, 5, 3), "cable car": (1, 4, 5)}[access])
            huts_made.append(
                {
                    "hut_code": f"{100 + 4 * number + other:05d}",
                    "hut": f"{first}{second}",
                    "valley": VALLEYS[(number * 3 + other) % 4],
                    "access": access,
                    "altitude": max(900, altitude),
                    "beds": beds,
                    "comfort": comfort,
                    "season_pass": int(dice.chance(0.4)),
                    "charm": dice.normal(0, 0.2),
                }
            )
    return huts_made


def stays_rows(dice: Dice, places: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return monthly overnight stays for each hut."""
    rows = []
    for place in places:
        for month_number in range(12 * YEARS):
            year, month = FIRST_YEAR + month_number // 12, month_number % 12 + 1
            rows.append(_stays_row(dice, place, year, month, month_number))
    return rows


def _stays_row(dice: Dice, place: dict[str, Any], year: int, month: int, month_number: int) -> dict[str, Any]:
    winter = math.cos(2 * math.pi * (month - 1) / 12)
    summer = math.cos(2 * math.pi * (month - 8) / 12)
    closed = month == 11 or (month == 4 and place["access"] == "trail")
    price = round(
        28 + 9 * (place["comfort"] == "good") + 0.004 * place["altitude"] + 0.08 * month_number + dice.normal(0, 2.5), 2
    )
    snow = max(0.0, dice.normal(60 * winter + 0.05 * (place["altitude"] - 1500), 18))
    level = (
        4.6
        + 0.75 * math.log(place["beds"] / 30)
        + {"trail": 0.0, "road": 0.22, "cable car": 0.38}[place["access"]]
        - 0.9 * math.log(price / 40)
        + 0.55 * summer
        + 0.20 * winter
        + 0.9 * (place["altitude"] / 1000)
        - 0.22 * (place["altitude"] / 1000) ** 2
        + {"poor": -0.1, "fair": 0.0, "good": 0.12}[place["comfort"]]
        + 0.08 * place["season_pass"]
        + 0.003 * month_number
        + place["charm"]
        + dice.normal(0, 0.18)
    )
    stays: int | str = "" if closed else max(1, round(math.exp(level)))
    if dice.chance(0.01):
        stays = ""
    return {
        "hut_code": place["hut_code"],
        "hut": place["hut"],
        "valley": place["valley"],
        "month": f"{year}-{month:02d}",
        "open": "no" if closed else "yes",
        "access": place["access"],
        "altitude": place["altitude"],
        "beds": place["beds"],
        "comfort": place["comfort"],
        "season_pass": place["season_pass"],
        "price": "NA" if dice.chance(0.015) else f"{price:.2f}",
        "snow_depth": "" if dice.chance(0.09) else round(snow),
        "stays": stays,
    }


def survey_rows(dice: Dice, places: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return guests' answers from 1 to 5; the third item is worded in reverse."""
    rows = []
    for number in range(1200):
        place = places[int(dice.uniform(0, len(places)))]
        liking = dice.normal({"poor": -0.6, "fair": 0.0, "good": 0.6}[place["comfort"]], 0.8)
        row: dict[str, Any] = {"guest": f"G{number + 1:04d}", "hut": place["hut"], "year": FIRST_YEAR + number % YEARS}
        for item in range(1, 6):
            answer = (-liking if item == 3 else liking) + dice.normal(0, 0.7)
            row[f"q_{item}"] = "" if dice.chance(0.04) else min(5, max(1, round(3 + answer)))
        row["would_return"] = "" if dice.chance(0.02) else "yes" if liking + dice.normal(0, 0.5) > -0.3 else "no"
        rows.append(row)
    return rows


def energy_rows(dice: Dice) -> list[dict[str, Any]]:
    """Return the quarterly energy price index."""
    rows, level = [], 100.0
    for number in range(4 * YEARS):
        level *= math.exp(dice.normal(0.012, 0.03))
        rows.append({"quarter": f"{FIRST_YEAR + number // 4}Q{number % 4 + 1}", "index": f"{level:.1f}"})
    return rows


def weather_rows(dice: Dice) -> list[dict[str, Any]]:
    """Return daily weather by valley."""
    rows = []
    for valley_number, valley in enumerate(VALLEYS):
        noise = 0.0
        for number in range((date(FIRST_YEAR + YEARS, 1, 1) - date(FIRST_YEAR, 1, 1)).days):
            day = date(FIRST_YEAR, 1, 1) + timedelta(days=number)
            noise = 0.7 * noise + dice.normal(0, 2.2)
            warmth = 6 - 9 * math.cos(2 * math.pi * (day.timetuple().tm_yday - 20) / 365) - valley_number + noise
            snowfall = max(0.0, dice.normal(2, 5)) if warmth < 1 else 0.0
            rows.append(
                {
                    "date": day.isoformat(),
                    "valley": valley,
                    "temperature": "" if dice.chance(0.003) else f"{warmth:.1f}",
                    "snowfall": f"{snowfall:.1f}",
                }
            )
    return rows


def write_samples(folder: Path) -> None:
    """Write all sample files into a folder."""
    dice = Dice(SEED)
    places = huts(dice)
    tables = {
        "huts.csv": stays_rows(dice, places),
        "survey.csv": survey_rows(dice, places),
        "energy.csv": energy_rows(dice),
        "weather.csv": weather_rows(dice),
    }
    for name, rows in tables.items():
        with (folder / name).open("w", encoding="utf-8", newline="") as handle:
            writer = csv.DictWriter(handle, list(rows[0]), lineterminator="\n")
            writer.writeheader()
            writer.writerows(rows)


if __name__ == "__main__":
    write_samples(Path(sys.argv[1]))
