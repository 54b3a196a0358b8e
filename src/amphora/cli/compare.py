"""compare."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.work import (
    BringOption,
    CopyOption,
    DebugFlag,
    FolderOption,
    JsonFlag,
    LeaveOption,
    MoveOption,
    PauseAfterOption,
    ReplaceOption,
    SameOption,
    TitleOption,
    WithOption,
    WithoutOption,
    Work,
    one_format,
    working,
)
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice, blank, to_type

if TYPE_CHECKING:
    from amphora.core.plan.decisions import Decisions
    from amphora.core.plan.reasons import Reason
    from amphora.core.values.model import Contents
    from amphora.engine.arrivals import Said
    from amphora.engine.docket import Prepared
    from amphora.render.result import Result


def compare(
    left: Annotated[
        str | None, typer.Argument(metavar="A", help="An environment, a package, a folder or a git revision of one.")
    ] = None,
    right: Annotated[str | None, typer.Argument(metavar="B", help="Another one.")] = None,
    others: Annotated[
        list[str] | None, typer.Argument(metavar="[C…|ITEM]", help="More targets; or only this item.")
    ] = None,
    docket: Annotated[
        Path | None, typer.Option("--docket", metavar="FILE", help="Write the docket of the import there.")
    ] = None,
    decide: Annotated[
        bool, typer.Option("--decide", help="Go through the open questions one by one, at a terminal.")
    ] = False,
    choose: Annotated[
        list[str] | None,
        typer.Option(
            "--choose",
            metavar="ITEM=CHOICE",
            help="package, target, last-delivered or leave; ITEM@/PLACE for one place.",
        ),
    ] = None,
    with_: WithOption = None,
    without: WithoutOption = None,
    copy: CopyOption = "",
    same: SameOption = None,
    replace_: ReplaceOption = None,
    titles: TitleOption = None,
    folders: MoveOption = None,
    leave: LeaveOption = None,
    bring: BringOption = None,
    pause_after: PauseAfterOption = None,
    refresh: Annotated[
        Path | None, typer.Option("--refresh", metavar="DOCKET", help="Bring a docket up to date.")
    ] = None,
    since: Annotated[
        str | None,
        typer.Option("--since", metavar="PACKAGE", help="What was there before, if nothing else tells."),
    ] = None,
    side_by_side: Annotated[bool, typer.Option("--side-by-side", help="Both definitions, line by line.")] = False,
    only: Annotated[
        str, typer.Option("--only", metavar="WHAT", help="changed, clash or edited: nothing else is shown.")
    ] = "",
    md: Annotated[bool, typer.Option("--md", help="Markdown instead of text.")] = False,
    html: Annotated[
        Path | None, typer.Option("--html", metavar="FILE", help="Write one page, for whoever approves.")
    ] = None,
    expect_same: Annotated[
        bool, typer.Option("--expect-same", help="For pipelines: differences are an error, and nothing is shown.")
    ] = False,
    all_: Annotated[bool, typer.Option("--all", help="List what is the same, too.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """See what differs, and what an import would do.

    \b
    Examples:
      amphora compare olive-intake grove-live
      amphora compare olive-intake grove-live "Weigh ticket" --side-by-side
      amphora compare olive-intake live-sites
      amphora compare olive-intake grove-live --docket live.docket.yaml --decide
      amphora compare --refresh live.docket.yaml
      amphora compare olive-intake grove-live --html review.html
      amphora compare grove-dev grove-live --expect-same
      amphora compare olive-intake-1.0.0 olive-intake-1.1.0
    """
    from amphora.cli.typed import retyped, typed_but
    from amphora.core.plan.commands import COMPARED
    from amphora.core.values.errors import UsageFault
    from amphora.engine.arrivals import Said, wants_records
    from amphora.render.beside import ONLY

    one_format(json=json, md=md)
    with working(json, workspace) as work:
        if only and only not in ONLY:
            raise UsageFault(f"--only takes {', '.join(ONLY)}, not {only!r}.", next_step=to_type("compare", "--help"))
        # First, for it takes no sides: they stand in the docket.
        if refresh is not None:
            if beyond := [*(name for name in (left, right) if name), *typed_but("refresh", "html")]:
                raise UsageFault(
                    f"What {refresh} is about and decides stands in it, and {beyond[0]} would be passed over.",
                    subject=beyond[0],
                    next_step=to_type("compare", "--refresh", str(refresh)),
                )
            _refresh(work, refresh, html)
            return
        if choose and docket is None and not decide:
            raise UsageFault(
                "What is chosen has to be kept somewhere.",
                next_step=advice("Add --docket FILE, and import that file."),
            )
        if left is None or right is None:
            raise UsageFault("Two sides are needed.", next_step=to_type("compare", "--help"))
        environments = work.session.workspace.environments
        targets, item = _targets_and_item(work, left, right, others or ())
        # Only a package against an environment is an import to be; everything else is two sides.
        if left in environments or not targets:
            if beyond := typed_but("side_by_side", "expect_same", "all_"):
                raise UsageFault(
                    f"{beyond[0]} is for a package and an environment that it would go into.",
                    subject=beyond[0],
                    next_step=to_type("compare", left, right, *(others or ())),
                )
            _two_sides(work, (left, right), item, side_by_side, expect_same)
            return
        shown = _Shown(
            docket,
            decide,
            since,
            side_by_side,
            only,
            md,
            html,
            expect_same,
            choose or (),
            Said(*(words or () for words in (titles, folders, leave, bring, same, replace_, pause_after))),
            copy,
            all_,
            wants_records(with_ or ()),
            tuple(without or ()),
            tuple(words for words in retyped() if words[0] in COMPARED),
        )
        if len(targets) > 1:
            _imports_to_be(work, left, targets, shown)
        else:
            _import_to_be(work, left, targets[0], item, shown)


def _targets_and_item(work: Work, left: str, right: str, others: Sequence[str]) -> tuple[list[str], str | None]:
    """The environments that a package is to be compared with, and the item to which it is narrowed down."""
    from amphora.core.values.errors import UsageFault

    workspace = work.session.workspace
    known = {*workspace.environments, *workspace.groups}
    # With an environment on the left there is no import to be: two places are compared.
    names = [name for name in (right, *others) if name in known] if left not in known else []
    items = [name for name in others if name not in names]
    if len(items) > 1:
        raise UsageFault(
            f"{items[0]!r} and {items[1]!r} are no environments, and one item at most can be named.",
            subject=items[0],
            next_step=to_type("compare", "--help"),
        )
    # Two sides of which the second is no environment of ours: a package, a folder, a revision.
    targets = workspace.targets(names) if right in known else []
    return targets, items[0] if items else None


def _imports_to_be(work: Work, left: str, targets: Sequence[str], shown: _Shown) -> None:
    """What an import into many targets would do: a sentence each, and what is in the way."""
    from amphora.core.plan.decisions import Decisions
    from amphora.core.values.errors import UsageFault
    from amphora.engine.docket import prepare
    from amphora.engine.gate import ImportRequest, in_the_way
    from amphora.render.rounds import comparisons_result

    # Refused and not done for the first one: a docket belongs to one target.
    alone = (shown.docket, shown.decide, shown.html, shown.md, shown.side_by_side, shown.only, shown.since)
    if any(alone) or shown.choose:
        raise UsageFault(
            "That is for one target at a time.",
            subject=left,
            next_step=to_type("compare", left, targets[0], "--docket", blank("FILE")),
        )
    contents = opened_package(work, left, shown.copy)
    found, said = [], shown.decisions(work, contents, targets)
    for name in targets:
        prepared = prepare(work.session, contents, name, said)
        found.append((prepared.docket, in_the_way(work.session, prepared, ImportRequest(Decisions(), yes=True))))
    result = comparisons_result(contents.title, found)
    work.show(_quiet(result) if shown.expect_same else result)


@dataclass
class _Shown:
    """How an import is to be shown, and what was said about it."""

    docket: Path | None
    decide: bool
    since: str | None
    side_by_side: bool
    only: str
    md: bool
    html: Path | None
    expect_same: bool
    choose: Sequence[str]
    said: Said
    copy: str
    is_all: bool
    records: bool
    without: tuple[str, ...]
    words: tuple[tuple[str, ...], ...]

    def decisions(self, work: Work, contents: Contents, targets: Sequence[str]) -> Decisions:
        """What was said of the items of a package, by the names that they have in it or in one of the targets."""
        from dataclasses import replace

        from amphora.engine.arrivals import chosen_for_items
        from amphora.engine.called import Called

        called = Called(work.session, contents, targets)
        chosen = replace(
            chosen_for_items(called, self.choose),
            file=str(self.docket or ""),
            records=self.records,
            without=self.without,
            words=self.words,
        )
        return self.said.over(called, chosen)


def _import_to_be(work: Work, left: str, right: str, item: str | None, shown: _Shown) -> None:
    from dataclasses import replace

    from amphora.core.plan.decisions import Decisions
    from amphora.engine.docket import key_in, prepare
    from amphora.engine.gate import ImportRequest, in_the_way
    from amphora.files.agreements import agreements, write_again
    from amphora.files.docket_file import read_docket
    from amphora.render.compare import comparison_markdown
    from amphora.render.imports import compare_result

    contents = opened_package(work, left, shown.copy)
    since = opened_package(work, shown.since) if shown.since else None
    said = shown.decisions(work, contents, [right])
    prepared = prepare(work.session, contents, right, said, since)
    if shown.decide:
        # What was answered at a terminal has to be kept: the import asks nobody again.
        shown.docket = shown.docket or Path(prepared.docket.usual_file)
        prepared = _decided(work, prepared, since, replace(said, file=str(shown.docket)))
    if shown.docket is not None:
        # Signatures of what it was before go with what they signed.
        write_again(shown.docket, prepared.docket)
        keys = work.session.workspace.keys
        prepared = replace(prepared, agreed=tuple(agreements(read_docket(shown.docket), keys)))
    reasons = in_the_way(
        # Asked as the import would ask that follows: with this docket, agreed to.
        work.session,
        replace(prepared, is_reviewed=shown.docket is not None),
        ImportRequest(Decisions(), yes=True),
    )
    if shown.html is not None:
        shown.html.write_text(_review(work, prepared, reasons, shown.only), encoding="utf-8")
    only_key = key_in(work.session, prepared, contents, item) if item else None
    result = compare_result(prepared.docket, reasons, only_key, shown.only, shown.is_all)
    if shown.side_by_side:
        result = _beside(prepared, only_key, result)
    if shown.md:
        work.write(comparison_markdown(prepared.docket, shown.only))
        raise typer.Exit(result.code)
    work.show(_quiet(result) if shown.expect_same else result)


def _review(work: Work, prepared: Prepared, reasons: Sequence[Reason], only: str) -> str:
    """The page for whoever approves."""
    from amphora.engine.session import utc_now
    from amphora.files.signatures import judged
    from amphora.render.review import Shown, review_page

    docket, entry, opened = prepared.docket, prepared.opened.entry, prepared.opened
    found = work.session.workspace
    # Of the package as it was made: conversions and copies are no signatures' business.
    contents = prepared.original or prepared.contents
    shown = Shown(
        entry.role,
        opened.description.region or entry.region,
        entry.customer,
        opened.description.release,
        opened.environment.whoami().account,
        judged(contents, found.keys).words,
        [one.words for one in prepared.agreed if one.counts],
        found.approvals.get(entry.role, 0),
        utc_now(),
    )
    return review_page(docket, contents, reasons, shown, only)


def _beside(prepared: Prepared, only_key: str | None, result: Result) -> Result:
    from dataclasses import replace

    from amphora.render.beside import side_by_side

    names = (prepared.docket.target, prepared.docket.title)
    blocks = [
        side_by_side(prepared.present[action.key], action.item, names)
        for action in prepared.docket.actions
        if action.key in prepared.present and only_key in (None, action.key)
        if action.comparison and action.comparison.changes
    ]
    return replace(result, blocks=[*result.blocks[:1], *blocks])


def _two_sides(work: Work, names: tuple[str, str], item: str | None, beside: bool, expect_same: bool) -> None:
    from dataclasses import replace

    from amphora.engine.compare import compare_sides
    from amphora.render.beside import side_by_side
    from amphora.render.differences import difference_result

    environments = work.session.workspace.environments
    # An environment before a package of its name: the shorter word is the place.
    sides = [name if name in environments else opened_package(work, name) for name in names]
    found = compare_sides(work.session, sides[0], sides[1], item)
    result = difference_result(*names, found)
    if beside:
        blocks = [side_by_side(found.left[key], found.right[key], names) for key in found.changed]
        result = replace(result, blocks=blocks)
    work.show(_quiet(result) if expect_same else result)


def _quiet(result: Result) -> Result:
    from dataclasses import replace

    return replace(result, blocks=[])


def _refresh(work: Work, path: Path, html: Path | None) -> None:
    from dataclasses import replace

    from amphora.core.merge.phrase import place_phrase
    from amphora.core.plan.decisions import Decisions
    from amphora.core.values.keys import readable
    from amphora.core.values.words import counted
    from amphora.engine.gate import ImportRequest, in_the_way
    from amphora.engine.refresh import refresh_docket
    from amphora.render.imports import compare_result
    from amphora.render.result import Lines

    found = refresh_docket(work.session, path)
    reviewed = replace(found.prepared, is_reviewed=True)
    reasons = in_the_way(work.session, reviewed, ImportRequest(Decisions(), yes=True))
    result = compare_result(found.prepared.docket, reasons)
    if html is not None:
        # Whoever is to agree to it anew needs the page anew.
        html.write_text(_review(work, reviewed, reasons, ""), encoding="utf-8")
    lines = [f"- {readable(key)}: {place_phrase(place)}" for key, place in found.dropped]
    blocks = [*([Lines(lines, "Decided before, and to be decided anew")] if lines else []), *result.blocks]
    # Before all else: somebody counts on an agreement that is none any more.
    if found.agreed:
        blocks.insert(0, Lines([f"No longer agreed to: {counted(found.agreed, 'signature')} on what it was before."]))
    verdict = f"{path.name} is up to date, {counted(found.kept, 'decision')} kept. {result.verdict}"
    work.show(replace(result, verdict=verdict, blocks=blocks))


def _decided(work: Work, prepared: Prepared, since: Contents | None, said: Decisions) -> Prepared:
    from amphora.cli.questions import decider
    from amphora.core.plan.questions import decide_all, questions_of
    from amphora.engine.docket import prepare

    # All that are open now: what comes up with the answers is told by the comparison that follows.
    questions = questions_of(prepared.docket)
    if not questions:
        return prepared
    said = said.answered(decide_all(questions, decider(work, prepared.docket)))
    return prepare(work.session, prepared.original or prepared.contents, prepared.docket.target, said, since)
