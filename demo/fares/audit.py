"""A task: checks that no child pays more than a grown-up."""
import sys

from fares import fares

full, half = fares(), fares(child=True)
wrong = [to for to in full if half[to] * 2 > full[to]]
print(f"audited {len(full)} fares, {len(wrong)} wrong")
sys.exit(1 if wrong else 0)
