#!/usr/bin/env python3
"""Fits what tells whether a doubtful place is wrong (evidence/doubts.rs) on rendered sets with known truth.

Usage: measure/doubts.py SETS SEED [SEED ...]      (CACHE=FOLDER keeps what is rendered between runs)
Takes every place that the consensus of the random sets of all kinds lists, whether it is asked or settled; a place is wrong when it
touches an error of more than 16 pixels. Prints the weights, and for some chances from which on a place may be asked how many are
asked, how many of them needlessly, and how many wrong ones are not: for all, and for each seed by what the others tell.
"""

import math
import os
import pathlib
import subprocess
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
COMBINING = ["cargo", "run", "--release", "--quiet", "--locked", "-p", "evanu-demo", "--example", "combining", "--"]
RIDGE = 0.01  # keeps weights finite where a sign tells all


def places(sets, seed):
    """Signs of each place, after a one for the constant, and whether it is wrong."""
    told = subprocess.run([*COMBINING, sets, "480", seed], cwd=ROOT, check=True, capture_output=True, text=True,
                          env={**os.environ, "DOUBTS": "1"}).stdout
    lines = [line.split(maxsplit=2)[1:] for line in told.splitlines() if line.startswith("  signs ")]
    return [([1.0] + [float(v) for v in signs.strip("[]").split(",")], wrong == "1") for wrong, signs in lines]


def solve(rows):
    """Unknowns of equations, each a list of factors and what they come to (Gauss)."""
    n = len(rows)
    for i in range(n):
        pivot = max(range(i, n), key=lambda r: abs(rows[r][i]))
        rows[i], rows[pivot] = rows[pivot], rows[i]
        rows[i] = [v / rows[i][i] for v in rows[i]]
        for r in range(n):
            if r != i:
                rows[r] = [v - rows[r][i] * w for v, w in zip(rows[r], rows[i])]
    return [row[n] for row in rows]


def chance(weights, signs):
    return 1 / (1 + math.exp(-sum(w * s for w, s in zip(weights, signs))))


def fit(each):
    """Weights of a logistic regression by Newton's method, the constant first."""
    n = len(each[0][0])
    weights = [0.0] * n
    for _ in range(30):
        chances = [chance(weights, signs) for signs, _ in each]
        rows = []
        for i in range(n):
            slope = [sum(s[i] * s[j] * p * (1 - p) for (s, _), p in zip(each, chances)) for j in range(n)]
            slope[i] += RIDGE
            rows.append(slope + [sum(s[i] * (wrong - p) for (s, wrong), p in zip(each, chances)) - RIDGE * weights[i]])
        weights = [w + step for w, step in zip(weights, solve(rows))]
    return weights


def table(title, told):
    """`told` holds each place's chance and whether it is wrong."""
    print(title)
    for least in (0.05, 0.085, 0.1, 0.15, 0.2, 0.25, 0.3, 0.4):
        asked = [wrong for p, wrong in told if p >= least]
        missed = sum(wrong for p, wrong in told if p < least)
        needless = 100 * asked.count(False) / max(len(asked), 1)
        print(f"  from {least:.3f} on: {len(asked)} asked, {needless:.0f} % needless, {missed} of {sum(w for _, w in told)} wrong ones not")


def main():
    sets, seeds = sys.argv[1], sys.argv[2:]
    each = {seed: places(sets, seed) for seed in seeds}
    weights = fit(sum(each.values(), []))
    print("weights:", " ".join(f"{w:.2f}" for w in weights))
    table("all", [(chance(weights, s), wrong) for of in each.values() for s, wrong in of])
    if len(seeds) > 1:
        told = []
        for seed, own in each.items():
            others = fit(sum((of for other, of in each.items() if other != seed), []))
            told += [(chance(others, s), wrong) for s, wrong in own]
        table("each seed by the others", told)


main()
