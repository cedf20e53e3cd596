"""`python -m bench [NAME …]`: run the named benches, or all of them."""

from __future__ import annotations

import sys

from bench import (
    answers,
    baking,
    commands,
    faults,
    files,
    flatten,
    hands,
    health,
    hostile,
    house,
    job,
    kills,
    monkey,
    packing,
    quads,
    reading,
    seams,
    sources,
    stops,
    window,
)

BENCHES = {
    "reading": reading.run,
    "sources": sources.run,
    "files": files.run,
    "hostile": hostile.run,
    "kills": kills.run,
    "stops": stops.run,
    "monkey": monkey.run,
    "commands": commands.run,
    "faults": faults.run,
    "health": health.run,
    "hands": hands.run,
    "job": job.run,
    "quads": quads.run,
    "seams": seams.run,
    "flatten": flatten.run,
    "packing": packing.run,
    "baking": baking.run,
    "house": house.run,
    "answers": answers.run,
    "window": window.run,
    "start": window.start,
}

CHOOSY = ("answers", "quads")
COUNTED = ("monkey", "commands")


def main() -> int:
    """Run benches in order; words after one of `CHOOSY` are what it is to look at, numbers after one of `COUNTED` how
    many seeds and steps, and the first seed."""
    names = sys.argv[1:] or [n for n in BENCHES if n != "faults"]
    counts = [int(word) for word in names[1:] if word.isdigit()] if names[0] in COUNTED else []
    if names[0] in (*CHOOSY, *COUNTED):
        names = names[:1]
    for name in names:
        if name not in BENCHES:
            print(f"There is no bench {name}; choose among {', '.join(BENCHES)}.", file=sys.stderr)
            return 2
        print(f"== {name}")
        BENCHES[name](*counts)
    return 0


if __name__ == "__main__":
    sys.exit(main())
