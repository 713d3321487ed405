"""A stand-in for a judge: reads items as JSON lines, writes a grade for each. Put any service in its place."""

import json
import re
import sys


def words(text: str) -> set[str]:
    """Return the words of a text."""
    return set(re.findall(r"\w+", text.casefold()))


def alike(answer: str, target: str) -> float:
    """Return the share of words that answer and target have in common."""
    a, b = words(answer), words(target)
    return len(a & b) / max(1, len(a | b))


for line in sys.stdin:
    item = json.loads(line)
    if item["task"] == "compare":
        gap = alike(item["first"], item["target"]) - alike(item["second"], item["target"])
        grade = "first" if gap > 0.05 else "second" if gap < -0.05 else "same"
    else:
        grade = str(1 + round(4 * alike(item["answer"], item["target"])))
    sys.stdout.write(json.dumps({"id": item["id"], "grade": grade}) + "\n")
    sys.stdout.flush()  # each grade is kept as it comes
