"""What the browser tests of the Packing bench share: a tin with its files, bays, and the lit object's pixels."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from browser_support import BrowserTest
from playwright.sync_api import Page

from projects.models import Shot

SIDE = 64


def png(pixels: np.ndarray) -> bytes:
    """A PNG in the depth of the array; colour in the order R, G, B, A."""
    order = {3: [2, 1, 0], 4: [2, 1, 0, 3]}.get(pixels.shape[-1]) if pixels.ndim == 3 else None
    return cv2.imencode(".png", pixels[..., order] if order else pixels)[1].tobytes()


def template() -> np.ndarray:
    """16 bit: occlusion full, roughness a slope, metallic none."""
    rough = np.linspace(20_000, 45_000, SIDE)[None, :] * np.ones((SIDE, 1))
    return np.stack([np.full_like(rough, 65_535), rough, np.zeros_like(rough)], axis=-1).astype(np.uint16)


def emblem() -> np.ndarray:
    """8 bit with alpha: a square that covers the middle whole, its border by a third."""
    alpha = np.zeros((SIDE, SIDE), np.uint8)
    alpha[14:50, 14:50] = 85
    alpha[16:48, 16:48] = 255
    gold = np.broadcast_to(np.array([240, 190, 80], np.uint8), (SIDE, SIDE, 3))
    return np.concatenate([gold, alpha[..., None]], axis=-1)


FILES = {
    "base.png": png(np.full((SIDE, SIDE, 3), (40, 120, 120), np.uint8)),
    "template.png": png(template()),
    "emblem.png": png(emblem()),
}
SOURCES = {
    "base": {"files": "base.png"},
    "template": {"files": "template.png", "colour": "data"},
    "emblem": {"files": "emblem.png"},
}


def texture_recipe(**more: list[dict[str, Any]]) -> dict[str, Any]:
    bays = {"occlusion": 1.0, "roughness": 0.5, "metallic": 0.0}
    steps: list[dict[str, Any]] = [
        {
            "name": name,
            "op": "bay",
            "in": {"like": "template"},
            "set": {"base": base, "fit": "scale", "layers": more.get(name, [])},
        }
        for name, base in bays.items()
    ]
    meanings = {port: {"meaning": name} for port, name in zip("rgb", bays, strict=True)}
    steps.append(
        {
            "name": "texture",
            "op": "pack",
            "in": dict(zip("rgb", bays, strict=True)),
            "set": {"layout": "orm", "meanings": meanings},
        }
    )
    return {"nexal": 1, "sources": SOURCES, "steps": steps}


class PackingTest(BrowserTest):
    def open_tin(self, recipe: dict[str, Any], item: str = "texture") -> Page:
        self.tin = self.make_shot("210 new tin", recipe, FILES)
        self.shot: Shot = self.tin
        return self.open_shot(query=f"?bench=packing&item={item}", shot=self.tin)

    def type_in(self, label: str, value: str) -> None:
        box = self.page.get_by_label(label, exact=True)
        box.fill(value)
        box.press("Enter")

    def lay_in(self, bay: str, address: str, kind: str = "value") -> None:
        what = f"Lay a value into {bay} by a mask" if kind == "value" else f"Lay a channel into {bay}"
        self.page.get_by_label(f"{what}: +").click()
        self.page.get_by_label(f"Find an address for {what}").fill(address)
        self.page.get_by_label("Addresses").get_by_role("button", name=address, exact=True).click()

    def layers(self, bay: str) -> list[dict[str, Any]]:
        return self.step(bay).get("set", {}).get("layers", [])

    def wait_for_layers(self, bay: str, wanted: list[dict[str, Any]]) -> None:
        self.wait_for(lambda: self.layers(bay) == wanted, what=f"{bay} has {wanted}, not {self.layers(bay)}")

    def lit_pixel(self, x: float, y: float, name: str = "lit") -> list[int]:
        """Bytes of the lit object at a part of its width and height."""
        return self.page.evaluate(
            """([name, x, y]) => {
              const canvas = document.querySelector(`canvas[data-testid="${name}"]`);
              if (!canvas || canvas.dataset.state !== "ready") return [];
              const at = [Math.round(x * canvas.width), Math.round(y * canvas.height), 1, 1];
              return [...canvas.getContext("2d").getImageData(...at).data].slice(0, 3);
            }""",
            [name, x, y],
        )

    def wait_for_lit(self, differs_from: list[int] | None = None, x: float = 0.5, y: float = 0.5) -> list[int]:
        got: list[int] = []

        def holds() -> bool:
            nonlocal got
            got = self.lit_pixel(x, y)
            return bool(got) and (differs_from is None or max(abs(a - b) for a, b in zip(got, differs_from)) > 8)

        self.wait_for_page(self.page, holds, f"the object shows {got}, before {differs_from}", 40)
        return got
