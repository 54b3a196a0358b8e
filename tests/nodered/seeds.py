"""Flow files for the two runtimes: a tab that uses a subflow, a broker, a link to another tab and a page."""

from __future__ import annotations

from typing import Any

import httpx

Node = dict[str, Any]
_V2 = {"Node-RED-API-Version": "v2"}
TAB, PRESS, STAMP, BROKER = "a1b2c3d4e5f60001", "a1b2c3d4e5f60003", "5f00000000000001", "bb00000000000001"
BASE, THEME, PAGE, GROUP = "0b00000000000001", "0e00000000000001", "0a00000000000001", "0900000000000001"
INJECT, TAKEN_TAB = "c000000000000001", "1100000000000001"

SOURCE: list[Node] = [
    {"id": TAB, "type": "tab", "label": "Weigh ticket", "disabled": False, "info": f"then {PRESS}", "env": [
        {"name": "REGION", "type": "str", "value": "north"},
        {"name": "KEY", "type": "cred", "value": "s3cr3t-quiet-heron"}, {"name": "PIN", "type": "cred"}],
     "credentials": {"PIN": "pin-silver-wren"}},
    {"id": PRESS, "type": "tab", "label": "Press", "disabled": False, "info": "", "env": []},
    {"id": STAMP, "type": "subflow", "name": "Stamp", "info": "", "in": [{"x": 50, "y": 30, "wires": [{"id": "5f000000000000f1"}]}],
     "out": [{"x": 250, "y": 30, "wires": [{"id": "5f000000000000f1", "port": 0}]}], "env": []},
    {"id": "5f000000000000f1", "type": "function", "z": STAMP, "name": "stamp", "func": "msg.t = 1;\nreturn msg;",
     "outputs": 1, "x": 150, "y": 30, "wires": [[]]},
    {"id": BROKER, "type": "mqtt-broker", "name": "Mill broker", "broker": "127.0.0.1", "port": "1", "autoConnect": False,
     "credentials": {"user": "mill", "password": "pw-silver-wren"}},
    {"id": BASE, "type": "ui-base", "name": "Board", "path": "/dashboard"},
    {"id": THEME, "type": "ui-theme", "name": "Olive", "colors": {"surface": "#ffffff"}},
    {"id": PAGE, "type": "ui-page", "name": "Press board", "ui": BASE, "path": "/press", "icon": "home", "layout": "grid", "theme": THEME, "order": 1},
    {"id": GROUP, "type": "ui-group", "name": "Today", "page": PAGE, "width": "6", "height": "1", "order": 1},
    {"id": INJECT, "type": "inject", "z": TAB, "name": "", "props": [], "repeat": "", "once": False, "x": 100, "y": 100, "wires": [["c000000000000002"]]},
    {"id": "c000000000000002", "type": f"subflow:{STAMP}", "z": TAB, "name": "", "env": [], "x": 260, "y": 100,
     "wires": [["c000000000000003", "c000000000000004", "c000000000000005"]]},
    {"id": "c000000000000003", "type": "mqtt out", "z": TAB, "name": "", "topic": "mill", "qos": "", "broker": BROKER, "x": 420, "y": 60, "wires": []},
    {"id": "c000000000000004", "type": "link out", "z": TAB, "name": "", "mode": "link", "links": ["d000000000000001"], "x": 420, "y": 100, "wires": []},
    {"id": "c000000000000005", "type": "ui-text", "z": TAB, "group": GROUP, "name": "w", "label": "t", "order": 1, "x": 420, "y": 140, "wires": []},
    {"id": "d000000000000001", "type": "link in", "z": PRESS, "name": "in", "links": ["c000000000000004"], "x": 100, "y": 100, "wires": [["d000000000000002"]]},
    {"id": "d000000000000002", "type": "http request", "z": PRESS, "name": "", "method": "GET", "url": "http://127.0.0.1:1/", "x": 260, "y": 100, "wires": [[]],
     "credentials": {"user": "p", "password": "pw-amber-finch"}},
]  # fmt: skip
BROKER_NODE: Node = next(node for node in SOURCE if node["id"] == BROKER)
TARGET: list[Node] = [
    {"id": TAKEN_TAB, "type": "tab", "label": "Local", "disabled": False, "info": "", "env": []},
    {"id": INJECT, "type": "debug", "z": TAKEN_TAB, "name": "mine", "x": 1, "y": 1, "wires": []},
    {"id": BROKER, "type": "tab", "label": "Another thing", "disabled": True, "info": "", "env": []},
    {"id": "7700000000000001", "type": "mqtt-broker", "name": "Live broker", "broker": "127.0.0.1", "port": "2",
     "autoConnect": False, "credentials": {"user": "x", "password": "pw-of-the-target"}},
]  # fmt: skip


def deploy(base_url: str, flows: list[Node], token: str = "") -> None:
    """Makes a runtime hold exactly these flows."""
    headers = _V2 | ({"Authorization": f"Bearer {token}"} if token else {})
    current = httpx.get(f"{base_url}/flows", headers=headers, trust_env=False).json()
    done = httpx.post(
        f"{base_url}/flows", headers=headers, json={"flows": flows, "rev": current["rev"]}, trust_env=False
    )
    assert done.status_code == 200, done.text


def flows_of(base_url: str, token: str = "") -> dict[str, Node]:
    """The nodes of a runtime by id."""
    headers = _V2 | ({"Authorization": f"Bearer {token}"} if token else {})
    found = httpx.get(f"{base_url}/flows", headers=headers, trust_env=False).json()["flows"]
    return {node["id"]: node for node in found}


def credentials_of(base_url: str, node: Node, token: str = "") -> Node:
    """What a runtime says of a node's credentials."""
    headers = {"Authorization": f"Bearer {token}"} if token else {}
    path = f"{base_url}/credentials/{node['type']}/{node['id']}"
    answer: Node = httpx.get(path, headers=headers, trust_env=False).json()
    return answer
