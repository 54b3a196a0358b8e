"""Findings as SARIF 2.1.0 (OASIS), for whatever shows results of analyses."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from importlib.metadata import version
from typing import Any
from urllib.parse import quote

import orjson

from amphora.core.checks import RULES
from amphora.core.merge.phrase import place_phrase
from amphora.core.values.model import Contents, Finding
from amphora.files.members import item_members

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def sarif_bytes(contents: Contents, findings: Mapping[str, Sequence[Finding]]) -> bytes:
    """One SARIF log with one run a target; the rules stand in each, as its section 3.49 wants."""
    members = item_members(contents.items)
    runs = [_run(contents, target, rows, members) for target, rows in findings.items()]
    log = {"$schema": SCHEMA, "version": "2.1.0", "runs": runs}
    return orjson.dumps(log, option=orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE)


def _run(contents: Contents, target: str, findings: Sequence[Finding], members: Mapping[str, str]) -> dict[str, Any]:
    rules = [
        {
            "id": rule.name,
            "shortDescription": {"text": rule.finds},
            "fullDescription": {"text": f"{rule.finds} {rule.why}"},
            "defaultConfiguration": {"level": rule.level.value},
            "properties": {"family": rule.family, "todo": rule.todo.value},
        }
        for rule in RULES.values()
    ]
    position = {name: number for number, name in enumerate(RULES)}
    return {
        "tool": {"driver": {"name": "Amphora", "version": version("amphora"), "rules": rules}},
        "automationDetails": {"id": f"{contents.name}/{contents.version}/{target or 'alone'}"},
        "results": [_result(finding, position[finding.rule], members) for finding in findings],
        "properties": {"package": contents.title, "target": target, "packageDigest": contents.package_digest},
    }


def _result(finding: Finding, rule_index: int, members: Mapping[str, str]) -> dict[str, Any]:
    help_ = f" Next: {finding.next_step}" if finding.next_step else ""
    result: dict[str, Any] = {
        "ruleId": finding.rule,
        "ruleIndex": rule_index,
        "level": finding.level.value,
        "message": {"text": finding.message + help_},
    }
    if finding.item:
        logical = [{"fullyQualifiedName": finding.item, "kind": "object"}]
        if finding.place:
            logical[0]["decoratedName"] = finding.item + finding.place
            logical[0]["name"] = place_phrase(finding.phrase)
        location: dict[str, Any] = {"logicalLocations": logical}
        if finding.item in members:
            uri = quote(f"data/items/{members[finding.item]}")
            location["physicalLocation"] = {"artifactLocation": {"uri": uri}}
        result["locations"] = [location]
    return result
