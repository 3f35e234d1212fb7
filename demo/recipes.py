"""The demo shots: which pictures they hold and what is done with them."""

from typing import Any

from nexal.analysis.screens import whole_matte

USERNAME, PASSWORD = "compositor", "night-conservatory"
PROJECT = "Night Conservatory"


def _step(name: str, op: str, inputs: dict[str, str | list[str]], **settings: Any) -> dict[str, Any]:
    return {"name": name, "op": op, "in": inputs, "set": settings}


AROUND_WING = [
    [200, 700, 10, 60, -10, -60],
    [620, 190, -190, 90, 190, -90],
    [1050, 110, -90, -40, 90, 40],
    [1040, 380, 40, -120, -40, 120],
    [620, 760, 210, -20, -210, 20],
]
"""A closed curve round the wing: points with their tangents."""


def _whole(picture: str) -> list[dict[str, Any]]:
    """The whole matte of a picture before a coloured screen, and its colour, as the bench's one click makes them."""
    return [{"set": {}, **step} for step in whole_matte(picture)]


def _bay(name: str, base: float, *layers: dict[str, Any]) -> dict[str, Any]:
    return _step(name, "bay", {"like": "tin_template"}, base=base, fit="scale", layers=list(layers))


def _meanings(*names: str) -> dict[str, dict[str, str]]:
    return {port: {"meaning": name} for port, name in zip("rgba", names, strict=False)}


TAGS = {
    name: words.split(", ")
    for name, words in {
        "020 fern": "plants",
        "024 frond": "plants",
        "040 moth": "moths, plates",
        "042 moth at once": "moths, plates",
        "043 lace": "plates",
        "045 moth screen": "moths, plates",
        "060 wing by the lamp": "moths",
        "110 glasshouse": "renders",
        "120 pendant": "renders",
        "130 prism": "renders",
        "140 pods": "plants",
        "200 tea tin": "textures",
    }.items()
}
"""What demo shots are found and grouped by."""
DELIVERABLES: dict[str, list[tuple[str, dict[str, Any]]]] = {
    "040 moth": [
        ("cut", {"from": "cut", "file": "moth_cut.exr", "depth": "half", "alpha": "premultiplied"}),
        ("matte", {"from": "matte", "file": "moth_matte.png", "depth": "16"}),
        ("veil", {"from": "veil", "file": "moth_veil.exr"}),
    ],
    "200 tea tin": [
        (name, {"from": name, "file": "{shot}_{layout}.png", "depth": "8"}) for name in ("tin_orm", "tin_mrc")
    ],
}
"""What demo shots give away: one of a step that is there no more, which fails and says so."""
NAMED = {"040 moth": "First matte"}
"""Names of the revisions that demo shots show."""
NOTES: dict[str, list[dict[str, Any]]] = {
    "040 moth": [
        {
            "author": "gardener",
            "text": "The tip of this feeler goes thin before the leaf. Can it be kept?",
            "item": "cut",
            "x": 1192.0,
            "y": 234.0,
            "frame": 1,
            "answers": [
                ("lamplighter", "It can: the black of screen is a little high."),
                ("compositor", "Then we keep it so for the night."),
            ],
        },
        {"author": "gardener", "text": "The wings read well over the glasshouse.", "item": "over_house", "done": True},
    ],
    "043 lace": [{"author": "gardener", "text": "How much of the veil is to stay? We talk on Monday.", "item": ""}],
}
"""What people have said about demo shots."""

CHAINS: list[dict[str, Any]] = [
    {
        "name": "From a crossing to a cut",
        "about": "A matte from green against the brighter of red and blue, and the plate cut out with it.",
        "steps": [
            _step("others", "cross", {"a": "plate.R", "b": "plate.B"}, mode="lighten", domain="scene"),
            _step("pull", "cross", {"a": "plate.G", "b": "others"}, mode="subtract", domain="scene"),
            _step("screen", "stretch", {"from": "pull"}, black=0.015, white=0.17, domain="scene"),
            _step("matte", "invert", {"from": "screen"}),
            _step("cut", "attach_alpha", {"picture": "plate", "alpha": "matte"}),
        ],
        "first": [["screen", "black"], ["screen", "white"]],
    },
    {
        "name": "Edge drawn in and softened",
        "about": "A hard matte made a little smaller, then soft by the same measure.",
        "steps": [
            _step("drawn_in", "grow", {"matte": "matte"}, distance=-1.0),
            _step("soft_edge", "blur", {"from": "drawn_in"}, radius=1.0),
        ],
        "first": [["drawn_in", "distance"], ["soft_edge", "radius"]],
    },
    {
        "name": "Lights that glow",
        "about": "What is bright spreads and is added on top.",
        "steps": [
            _step("bright", "luma_pull", {"picture": "picture"}, low=0.7, low_softness=0.2),
            _step("lights", "attach_alpha", {"picture": "picture", "alpha": "bright"}),
            _step("halo", "blur", {"from": "lights"}, radius=24.0),
            _step("glowing", "stack", {"under": "picture", "over": "halo"}, mode="plus", opacity=0.6),
        ],
        "first": [["bright", "low"], ["halo", "radius"], ["glowing", "opacity"]],
    },
]
"""Chains that the demo project keeps."""
PENDANT = ("key", "fill", "rim", "lantern", "reflection", "glow")
"""The light passes of the pendant."""
SWING = ("moon", "sky", "lantern", "glow")
"""The light passes of the swinging lantern."""

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
    "045 moth screen": {
        "nexal": 1,
        "sources": {
            "moth": {"files": "moth.exr"},
            "backing": {"files": "backing.exr"},
            "interior": {"files": "interior.exr"},
        },
        "steps": [
            _step(
                "pull", "screen_pull", {"picture": "moth", "clean": "backing"}, balance=0.66, black=0.01, white=0.985
            ),
            _step("unspilled", "despill", {"picture": "moth"}, amount=0.85, keep_luminance=0.4),
            _step("cut", "attach_alpha", {"picture": "unspilled", "alpha": "pull"}),
            _step("over_house", "stack", {"under": "interior", "over": "cut"}),
        ],
    },
    "024 frond": {
        "nexal": 1,
        "sources": {"frond": {"files": "frond.png"}},
        "steps": [
            _step("crossed", "cross", {"a": "frond.G", "b": "frond.R"}, mode="divide"),
            _step("fronds", "stretch", {"from": "crossed"}, black=0.985, white=1.06),
            _step("darker", "grade", {"picture": "frond", "matte": "fronds"}, exposure=-1.0, invert_matte=True),
        ],
    },
    "060 wing by the lamp": {
        "nexal": 1,
        "sources": {"wing": {"files": "wing.exr"}},
        "steps": [
            _step("glass", "luma_pull", {"picture": "wing"}, low=0.7, high=4.0, low_softness=0.24),
            _step("matte", "invert", {"from": "glass"}),
            _step("clean", "despeckle", {"matte": "matte"}, islands=8.0, holes=8.0),
            _step("round", "shape", {"like": "wing"}, paths=[{"points": AROUND_WING, "feather": [0.0, 36.0]}]),
            _step("inside", "logic", {"mattes": ["clean", "round"]}, mode="intersect"),
            _step(
                "mended",
                "touch_up",
                {"matte": "inside"},
                strokes=[
                    {"points": [[268, 676], [330, 640], [410, 570]], "radius": 10, "hardness": 0.7, "value": 1},
                    {"points": [[1100, 120]], "radius": 46, "hardness": 0.3, "value": 0},
                ],
            ),
            _step("cut", "attach_alpha", {"picture": "wing", "alpha": "mended"}),
        ],
    },
    "080 print": {
        "nexal": 1,
        "sources": {"ink": {"files": "print.tif"}},
        "steps": [
            _step("colour", "ink_join", {"picture": "ink"}),
            _step("crossed", "cross", {"a": "colour.R", "b": "colour.B"}, mode="subtract"),
            _step("matte", "stretch", {"from": "crossed"}, black=0.0, white=0.2),
            _step("ink_cut", "attach_alpha", {"picture": "ink", "alpha": "matte"}),
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
    "042 moth at once": {
        "nexal": 1,
        "sources": {"moth": {"files": "moth.exr"}, "interior": {"files": "interior.exr"}},
        "steps": [
            *_whole("moth"),
            _step("comp", "stack", {"under": "interior", "over": "cut"}),
        ],
    },
    "043 lace": {
        "nexal": 1,
        "sources": {"lace": {"files": "lace.exr"}, "interior": {"files": "interior.exr"}},
        "steps": [
            *_whole("lace"),
            _step("comp", "stack", {"under": "interior", "over": "cut"}),
        ],
    },
    "110 glasshouse": {
        "nexal": 1,
        "sources": {"house": {"files": "house.exr"}},
        "steps": [
            _step("near", "stretch", {"from": "house.depth.Z"}, black=14.0, white=2.5),
            _step("warmer", "stack", {"under": "house", "over": "house.lantern"}, mode="plus", opacity=0.7),
            _step(
                "evening",
                "sum_passes",
                {"passes": ["house.moon", "house.fill", "house.lantern", "house.glow"], "alpha_from": "house.A"},
                passes=[{"stops": -0.8}, {"stops": -0.3}, {"stops": 0.7, "tint": [1.12, 0.98, 0.84]}, {"stops": 0.4}],
            ),
            _step(
                "mist",
                "fog",
                {"picture": "evening", "depth": "house.depth.Z", "position": "house.position"},
                start=4.0,
                density=0.06,
                colour=[0.16, 0.2, 0.26],
                noise=0.7,
                noise_scale=4.0,
            ),
        ],
    },
    "115 fireflies": {
        "nexal": 1,
        "sources": {"house": {"files": "house.exr"}, "flies": {"files": "fireflies.exr"}},
        "steps": [
            _step(
                "lens",
                "defocus",
                {"picture": "house", "depth": "house.depth.Z"},
                focus=4.2,
                range=[0.5, 0.5],
                radius=11.0,
                blades=7,
                roundness=0.4,
                highlight=1.2,
            ),
            # Their light is nowhere in the depth: it is laid over what the lens has blurred.
            _step("night", "stack", {"under": "lens", "over": "flies"}),
        ],
    },
    "120 pendant": {
        "nexal": 1,
        "sources": {"pendant": {"files": "pendant.exr"}, "interior": {"files": "interior.exr"}},
        "steps": [
            _step(
                "balance",
                "sum_passes",
                {"passes": [f"pendant.{name}" for name in PENDANT], "alpha_from": "pendant.A"},
                passes=[{}, {"stops": 0.4}, {"stops": 0.8}, {"stops": 0.5}, {}, {"stops": -0.4}],
            ),
            _step("near_by", "place", {"picture": "balance"}, x=560.0),
            _step("hung", "stack", {"under": "interior", "over": "near_by"}),
        ],
    },
    "125 pendant in files": {
        "nexal": 1,
        "sources": {
            **{name: {"files": f"pendant_{name}.exr"} for name in PENDANT},
            "coverage": {"files": "pendant_alpha.exr"},
            "parts": {"files": "pendant_parts.exr"},
        },
        "steps": [
            _step("lit", "sum_passes", {"passes": list(PENDANT), "alpha_from": "coverage.A"}),
            _step(
                "split",
                "sum_passes",
                {
                    "passes": ["parts.lighting", "parts.reflection", "parts.glow"],
                    "alpha_from": "parts.rgba.A",
                },
                passes=[{"times": "parts.albedo"}, {}, {}],
            ),
            _step("gap", "residual", {"full": "lit", "rebuilt": "split"}, gain=100.0),
        ],
    },
    "140 pods": {
        "nexal": 1,
        "sources": {
            "pods": {"files": "pods_teal.png"},
            "interior": {"files": "interior.exr"},
        },
        "steps": [
            _step("cleared", "clear_backing", {"picture": "pods"}, colour=[0.05, 0.4, 0.4], encoding="display"),
            _step("melted", "edge_melt", {"picture": "cleared"}, width=10.0, radius=2.0, amount=0.6),
            _step("nearer", "place", {"picture": "melted"}, x=320.0, y=180.0, scale=1.5),
            _step("over_house", "stack", {"under": "interior", "over": "nearer"}),
        ],
    },
    "145 pods in two files": {
        "nexal": 1,
        "sources": {
            "picture": {"files": "pods_picture.png"},
            "cover": {"files": "pods_alpha.png", "colour": "data"},
        },
        "steps": [
            _step("joined", "attach_alpha", {"picture": "picture", "alpha": "cover"}),
            _step("cleared", "clear_backing", {"picture": "joined"}, colour=[0.5, 0.5, 0.5], encoding="display"),
        ],
    },
    "200 tea tin": {
        "nexal": 1,
        "sources": {
            "tin_base": {"files": "tin_base.png"},
            "tin_template": {"files": "tin_template.png", "colour": "data"},
            "tin_occlusion": {"files": "tin_occlusion.png", "colour": "data"},
            "tin_metal": {"files": "tin_metal.png", "colour": "data"},
            "emblem": {"files": "emblem.png"},
        },
        "steps": [
            _step("emblem_large", "resize", {"from": "emblem"}, width=2048, height=2048),
            _step("painted", "stack", {"under": "tin_base", "over": "emblem_large"}),
            _bay("occlusion", 1.0, {"from": "tin_occlusion"}),
            _bay(
                "roughness",
                0.42,
                {"from": "tin_template.G"},
                {"value": 0.34, "mask": "tin_metal"},
                {"value": 0.26, "mask": "emblem.A"},
            ),
            _bay(
                "metallic",
                0.0,
                {"from": "tin_template.B", "opacity": 0.5},
                {"value": 0.9, "mask": "tin_metal"},
                {"value": 0.95, "mask": "emblem.A"},
            ),
            _bay("coat", 0.7, {"value": 0.0, "mask": "tin_metal"}, {"value": 0.0, "mask": "emblem.A"}),
            _step(
                "tin_orm",
                "pack",
                {"r": "occlusion", "g": "roughness", "b": "metallic"},
                layout="orm",
                meanings=_meanings("occlusion", "roughness", "metallic"),
            ),
            _step(
                "tin_mrc",
                "pack",
                {"r": "metallic", "g": "roughness", "b": "coat"},
                layout="mrc",
                meanings=_meanings("metallic", "roughness", "coat"),
            ),
        ],
    },
    "130 prism": {
        "nexal": 1,
        "sources": {
            **{name: {"files": f"cloche_{name}.exr"} for name in ("low", "middle", "high")},
            "cover": {"files": "cloche_alpha.exr"},
            "plate": {"files": "cloche_plate.exr"},
            "where": {"files": "cloche_position.exr"},
        },
        "steps": [
            _step(
                "prism",
                "route",
                {},
                to={
                    "R": {"from": "low.R"},
                    "G": {"from": "middle.G"},
                    "B": {"from": "high.B"},
                    "A": {"from": "cover.A"},
                },
            ),
            _step("on_table", "stack", {"under": "plate", "over": "prism"}),
            _step(
                "with_position",
                "route",
                {"base": "on_table"},
                to={f"position.{axis}": {"from": f"where.position.{axis}"} for axis in "XYZ"},
            ),
        ],
    },
}


MOVING: dict[str, dict[str, Any]] = {
    "050 moth in flight": {
        "nexal": 1,
        "sources": {
            "flight": {"files": "flight.%04d.exr"},
            "interior": {"files": "interior.exr"},
        },
        "steps": [
            _step("pull", "screen_pull", {"picture": "flight"}, reference=[0.05, 0.28, 0.075], black=0.06, white=0.92),
            _step("unspilled", "despill", {"picture": "flight"}, amount=0.85, keep_luminance=0.4),
            _step("cut", "attach_alpha", {"picture": "unspilled", "alpha": "pull"}),
            _step("house", "fit_to", {"picture": "interior", "like": "flight"}, how="cover"),
            _step("over_house", "stack", {"under": "house", "over": "cut"}),
            _step(
                "wipe",
                "ramp",
                {"like": "flight"},
                start={"keys": [[1, [-60, 0], "smooth"], [36, [960, 0]]]},
                end={"keys": [[1, [-20, 0], "smooth"], [36, [1000, 0]]]},
            ),
            _step("shown", "stack", {"under": "over_house", "over": "flight", "matte": "wipe"}),
        ],
    },
    "055 lantern swing": {
        "nexal": 1,
        "sources": {
            "swing": {"files": "swing.%04d.exr"},
            "flight": {"files": "flight.%04d.exr"},
        },
        "steps": [
            _step(
                "evening",
                "sum_passes",
                {"passes": [f"swing.{name}" for name in SWING], "alpha_from": "swing.A"},
                passes=[
                    {"stops": -0.6},
                    {"stops": -0.4},
                    {"stops": {"keys": [[1, 0.0, "smooth"], [10, 0.9, "smooth"], [19, 0.1, "smooth"], [30, 0.8]]}},
                    {"stops": 0.3},
                ],
            ),
            _step(
                "pool",
                "space_matte",
                {"position": "swing.position", "coverage": "swing.A"},
                centre=[-0.5, 0.82, 2.75],
                size=[0.75, 0.75, 0.75],
                softness=0.5,
            ),
            _step("warm_bench", "grade", {"picture": "evening", "matte": "pool"}, exposure=1.1, slope=[1.1, 1.0, 0.8]),
            _step(
                "mist",
                "fog",
                {"picture": "warm_bench", "depth": "swing.depth.Z", "position": "swing.position"},
                start=3.0,
                density=0.11,
                colour=[0.07, 0.09, 0.12],
                noise=0.6,
                noise_scale=1.2,
            ),
            _step(
                "lens",
                "defocus",
                {"picture": "mist", "depth": "swing.depth.Z"},
                focus={"keys": [[1, 4.2, "smooth"], [18, 6.3, "smooth"], [36, 4.2]]},
                radius=9.0,
                blades=6,
                highlight=0.4,
            ),
            _step("hanging", "id_pick", {"ids": "swing"}, pick=["lantern"], layer="objects"),
            _step("moth", "fit_to", {"picture": "flight", "like": "swing"}, how="cover"),
            _step(
                "wipe",
                "ramp",
                {"like": "swing"},
                start={"keys": [[24, [-10, 60], "smooth"], [36, [710, 60]]]},
                end={"keys": [[24, [-80, 0], "smooth"], [36, [640, 0]]]},
            ),
            _step("shown", "stack", {"under": "lens", "over": "moth", "matte": "wipe"}),
        ],
    },
}
"""Shots that move: drawn and put in after the stills, once the server runs."""


def _marks(**sides: list[tuple[float, float, float]]) -> list[dict[str, Any]]:
    return [{"side": side, "x": x, "y": y, "radius": r} for side, dabs in sides.items() for x, y, r in dabs]


STATES = {"020 fern": "done", "024 frond": "done", "040 moth": "review", "042 moth at once": "work", "043 lace": "work"}
"""How far demo shots are; the others are to do."""

MARKS: dict[str, list[dict[str, Any]]] = {
    "024 frond": _marks(
        subject=[(388, 600, 9), (264, 630, 8), (807, 588, 8), (312, 486, 8)],
        background=[(100, 150, 30), (900, 120, 30), (570, 620, 26), (1220, 760, 24)],
    ),
    "060 wing by the lamp": _marks(
        subject=[(620, 480, 20), (900, 260, 16)], background=[(200, 200, 24), (1150, 700, 24), (640, 160, 20)]
    ),
    "080 print": _marks(
        subject=[(500, 600, 9), (640, 240, 14), (640, 500, 20)], background=[(200, 200, 26), (1000, 700, 26)]
    ),
}
"""Spots of subject and background, kept with some of the shots."""
