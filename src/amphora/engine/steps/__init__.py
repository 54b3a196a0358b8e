"""How each kind of step is done: one module a kind."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan import steps as kinds
from amphora.engine.steps import create, grant, load_rows, publish, retire, switch, take_back, update, write_all
from amphora.engine.steps.contract import Bench, Doing, Material

DOINGS: Mapping[type[kinds.Step], Doing] = {
    kinds.Create: create.do,
    kinds.CreateBare: create.do,
    kinds.Update: update.do,
    kinds.Complete: update.do,
    kinds.Grant: grant.do,
    kinds.EnterSecret: update.do,
    kinds.Move: update.do,
    kinds.WriteAll: write_all.do,
    kinds.Publish: publish.do,
    kinds.TakeBack: take_back.do,
    kinds.Switch: switch.do,
    kinds.LoadRows: load_rows.do,
    kinds.RetireSet: retire.do,
}
"""The one call of each kind of step."""

WRITING = (kinds.Create, kinds.Update, kinds.Move, kinds.WriteAll)
"""Kinds of steps that write a definition, with those made from them."""

__all__ = ["DOINGS", "WRITING", "Bench", "Doing", "Material"]
