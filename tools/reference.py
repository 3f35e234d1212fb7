"""Write docs/operations.md from the operations themselves.

python tools/reference.py
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from nexal.analysis.describe import operation_rows

TARGET = Path(__file__).resolve().parent.parent / "docs" / "operations.md"


def kind(schema: dict[str, Any]) -> str:
    if "enum" in schema:
        return ", ".join(schema["enum"])
    if "anyOf" in schema:
        return " or ".join(filter(None, (kind(part) for part in schema["anyOf"])))
    if "const" in schema:
        return str(schema["const"])
    if schema.get("type") == "object" and "properties" in schema:
        return "{" + ", ".join(schema["properties"]) + "}"
    limits = [
        f"{sign} {schema[key]}"
        for key, sign in (("minimum", ">="), ("exclusiveMinimum", ">"), ("maximum", "<="), ("exclusiveMaximum", "<"))
        if key in schema
    ]
    return " ".join([schema.get("type", ""), *limits, schema.get("unit", "")]).strip()


def main() -> None:
    lines = [
        "# Operations",
        "",
        "Written by `tools/reference.py` from the operations' own ports, settings and docstrings.",
        "",
    ]
    for row in operation_rows():
        lines += [f"## {row['op']}", "", *row["text"].splitlines(), ""]
        for port in row["ports"]:
            optional = "" if port["required"] else ", may be left out"
            lines.append(f"- in **{port['name']}** ({port['kind']}{optional}): {port['text']}")
        for name, schema in row["settings"].items():
            lines.append(
                f"- setting **{name}** ({kind(schema)}; {json.dumps(schema['default'])}): "
                f"{schema.get('description', '')}"
            )
        lines.append("")
    TARGET.write_text("\n".join(lines), encoding="utf-8")


if __name__ == "__main__":
    main()
