"""Writes docs/diagnosis.md: what every state of the drifting pods is told to be.

PYTHONPATH=core:. python tools/diagnosis.py
"""

from pathlib import Path

import numpy as np

from demo.night.pods import make_pods
from demo.night.states import plan_of, states
from nexal.analysis.diagnose import diagnose
from nexal.engine import Engine

TEXT = """# Diagnosis

What `nexal diagnose` and the Edges bench say of the drifting pods (640 x 360, heavy motion blur, translucent wings) in
every state, backing, encoding and bit depth that `demo/night/states.py` makes. The backing is in the values in which it
was mixed; the error is that of its worst channel. Made by `tools/diagnosis.py`; `demo/tests/test_pods.py` holds each
row.

| state | verdict | mixed in | confidence | backing off by |
|---|---|---|---|---|
"""


def main() -> None:
    pods, rows = make_pods(640, 360), []
    for state in states(pods.colour, pods.alpha):
        plan = plan_of(state)
        answer = diagnose(Engine(), plan, plan.feed("p"))
        words = {"scene": "linear light", "display": "encoded values", None: ""}[answer["domain"]]
        off = float(np.abs(np.array(answer["backing"]) - state.backing).max())
        rows.append(f"| {state.name} | {answer['verdict']} | {words} | {answer['confidence']:.2f} | {off:.4f} |\n")
    Path("docs/diagnosis.md").write_text(TEXT + "".join(rows), encoding="utf-8")


if __name__ == "__main__":
    main()
