"""Files and operations described as plain data."""

from __future__ import annotations

import inspect
from typing import Any

from nexal.formats.stored import StoredFile
from nexal.formats.unpack import address
from nexal.operations import Operation, catalogue


def operation_row(operation: Operation) -> dict[str, Any]:
    """Ports, settings (JSON Schema with unit, range, step and widget hints) and text of an operation."""
    schema = operation.Settings.model_json_schema(by_alias=True)
    definitions = schema.get("$defs", {})
    settings = {name: _inlined(field, definitions) for name, field in schema.get("properties", {}).items()}
    for name, field in operation.Settings.model_fields.items():
        if "default" not in settings[name]:
            settings[name]["default"] = field.get_default(call_default_factory=True)
    return {
        "op": operation.name,
        "family": operation.family,
        "text": inspect.getdoc(type(operation)) or "",
        "needs": operation.needs,
        "ports": [
            {
                "name": port.name,
                "kind": port.kind,
                "text": port.text,
                "required": port.required,
                "many": port.many,
                "role": port.fed_with,
            }
            for port in operation.ports
        ],
        "free_ports": operation.free_ports,
        "makes": operation.makes,
        "settings": settings,
    }


def _inlined(schema: Any, definitions: dict[str, Any]) -> Any:
    """A schema without references, so that a form can be drawn from each setting alone."""
    if isinstance(schema, dict):
        if "$ref" in schema:
            return _inlined(definitions[schema["$ref"].rpartition("/")[2]], definitions)
        return {key: _inlined(value, definitions) for key, value in schema.items()}
    if isinstance(schema, list):
        return [_inlined(item, definitions) for item in schema]
    return schema


def operation_rows() -> list[dict[str, Any]]:
    return [operation_row(operation) for operation in catalogue().values()]


def file_row(name: str, stored: StoredFile) -> dict[str, Any]:
    """What `nexal info` answers about a file. Windows are the file's own, `x, y, width, height`."""
    header = stored.header
    several = len(header["parts"]) > 1
    parts = []
    for part in header["parts"]:
        channels = []
        for channel in part["channels"]:
            full = address(part["name"], channel["name"], several)
            report = stored.report(full)
            channels.append(
                {
                    "name": full,
                    "type": channel["type"],
                    "role": stored.channels[full]["role"],
                    "min": report["min"],
                    "max": report["max"],
                    "mean": report["mean"],
                    "non_finite": report["non_finite"],
                }
            )
        own = {channel["name"] for channel in channels}
        layers = [
            {**layer, "channels": [channel for channel in layer["channels"] if channel in own]}
            for layer in header["layers"]
        ]
        parts.append(
            {
                "name": part["name"],
                "display_window": part["display"],
                "data_window": part["data"],
                "compression": part["compression"],
                "layers": [layer for layer in layers if layer["channels"]],
                "channels": channels,
            }
        )
    return {
        "file": name,
        "format": header["format"],
        "parts": parts,
        "alpha": header["alpha"],
        "encoding": header["encoding"],
        "metadata": header["metadata"],
        "warnings": header["warnings"],
    }
