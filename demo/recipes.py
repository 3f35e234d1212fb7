"""The demo shots: which pictures they hold and what is done with them."""

from typing import Any

USERNAME, PASSWORD = "compositor", "night-conservatory"
PROJECT = "Night Conservatory"


def _step(name: str, op: str, inputs: dict[str, str], **settings: Any) -> dict[str, Any]:
    return {"name": name, "op": op, "in": inputs, "set": settings}


SHOTS: dict[str, dict[str, Any]] = {
    "040 moth": {
        "nexal": 1,
        "sources": {
            "moth": {"files": "moth.exr"},
            "backing": {"files": "backing.exr"},
            "interior": {"files": "interior.exr"},
        },
        "steps": [
            _step("others", "cross", {"a": "moth.R", "b": "moth.B"}, mode="lighten", domain="scene"),
            _step("pull", "cross", {"a": "moth.G", "b": "others"}, mode="subtract", domain="scene"),
            _step("screen", "stretch", {"from": "pull"}, black=0.015, white=0.17, domain="scene"),
            _step("matte", "invert", {"from": "screen"}),
            _step("cut", "attach_alpha", {"picture": "moth", "alpha": "matte"}),
            _step("over_house", "stack", {"under": "interior", "over": "cut"}),
        ],
    },
    "020 fern": {
        "nexal": 1,
        "sources": {"fern": {"files": "fern.png"}},
        "steps": [
            _step("leaf", "cross", {"a": "fern.G", "b": "fern.R"}, mode="subtract"),
            _step("fronds", "stretch", {"from": "leaf"}, black=0.02, white=0.13),
        ],
    },
    "110 glasshouse": {
        "nexal": 1,
        "sources": {"house": {"files": "house.exr"}},
        "steps": [
            _step("near", "stretch", {"from": "house.depth.Z"}, black=14.0, white=2.5),
            _step("warmer", "stack", {"under": "house", "over": "house.lantern"}, mode="plus", opacity=0.7),
        ],
    },
}
