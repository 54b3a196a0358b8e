"""A run that does aftercare: a few steps on items that are there, put back if one of them fails."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass

from amphora.core.form.places import Walk
from amphora.core.form.spots import mask_secrets, named_elements
from amphora.core.plan.states import Image
from amphora.core.plan.steps import Drawn, Step
from amphora.core.values.errors import AmphoraError, EnvironmentRefused, FaultInRun, Interrupted
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.engine.leaks import leaks_in_images, refuse_leaks
from amphora.engine.runs.attention import attended
from amphora.engine.runs.carrier import Carrier, Stopped
from amphora.engine.runs.forwards import failed
from amphora.engine.runs.stage import Stage
from amphora.engine.steps import Bench
from amphora.environments.contract import Description
from amphora.ledger.records import AFTERCARE, BROKEN_OFF, DONE, Beginning, Run


@dataclass(frozen=True)
class Caring:
    """What aftercare writes: what is there, with the secrets that it lacked. `forms` are the delivered forms, in
    which the tokens tell where the secrets belong; `secrets` their values, by item and token, never stored."""

    description: Description
    forms: Mapping[Key, Json]
    secrets: Mapping[Key, Mapping[str, str]]

    def draw(self, step: Step, key: Key, now: Image | None) -> Drawn:
        """The present definition with the secrets of the item in their places."""
        if now is None:
            raise EnvironmentRefused("It is not there (any more).", subject=key)
        sheet = self.description.sheets[now.kind]
        definition = with_secrets(now.newest, self.forms.get(key), self.secrets[key], sheet.places.walk(now.newest))
        return Drawn(now.kind, now.segments, now.states, definition, mask_secrets(definition, sheet))

    def rows(self, key: Key) -> Iterator[Json]:
        """None: no step of aftercare loads rows."""
        return iter(())

    def chosen_id(self, key: Key) -> str | None:
        """None: everything is there."""
        return None

    def uses(self, key: Key) -> Collection[Key]:
        """Nothing that would have to be made first."""
        return frozenset()

    def learn(self, key: Key, native_id: str) -> None:
        """Nothing is made."""


def with_secrets(present: Json, form: Json, secrets: Mapping[str, str], walk: Walk) -> Json:
    """A native definition with secrets where a portable form of it has their tokens. Elements with names are found by
    them; a place that is no longer there gets nothing."""
    if isinstance(form, dict) and isinstance(present, dict):
        result = dict(present)
        for name, part in form.items():
            if isinstance(part, str) and part in secrets:
                result[name] = secrets[part]
            elif name in present:
                result[name] = with_secrets(present[name], part, secrets, walk.step(name))
        return result
    if isinstance(form, list) and isinstance(present, list):
        member = walk.spot.named_by
        places = named_elements(form, member) if member else None
        return [
            with_secrets(part, form[at], secrets, walk.step(str(number)))
            if (at := _place(part, number, member, places)) is not None and at < len(form)
            else part
            for number, part in enumerate(present)
        ]
    return present


def _place(part: Json, number: int, member: str | None, places: Mapping[str, int] | None) -> int | None:
    if places is None or member is None:
        return number
    name = part.get(member) if isinstance(part, dict) else None
    return places.get(name) if isinstance(name, str) else None


def carry_out_care(
    stage: Stage,
    steps: Sequence[Step],
    before: Mapping[Key, Image | None],
    caring: Caring,
    package: str,
    version: str,
) -> tuple[Run, AmphoraError | None]:
    """Carries the steps out as a run of its own. A failure comes back with what it means for the target."""
    account = stage.environment.whoami().account
    with stage.ledger.locks.held(stage.uid, stage.opened.name, account, f"aftercare of {package}"):
        touched = {key: before.get(key) for step in steps for key in step.keys}
        refuse_leaks(
            leaks_in_images(touched, stage.opened.description.sheets, stage.opened.guard),
            f"What is to be kept of {stage.opened.name} looks like a secret in clear; nothing was touched.",
        )
        beginning = Beginning(
            AFTERCARE,
            stage.opened.name,
            stage.uid,
            account,
            package,
            version,
            docket={"steps": [[step.do, list(step.keys)] for step in steps]},
            before=touched,
            outside=stage.revisions(image.native_id for image in touched.values() if image),
        )
        run = stage.ledger.journal.begin(beginning)
        bench = Bench(stage.environment, stage.habits, caring, dict(touched))  # type: ignore[arg-type]
        with attended() as attention:
            try:
                carrier = Carrier(stage, run, bench, attention, stage.ledger.uid())
                carrier.carry_out(steps, stage.opened.name)
                return stage.ledger.finish(run, DONE), None
            except Stopped:
                error: AmphoraError = Interrupted("It was interrupted.")
            except AmphoraError as trouble:
                error = trouble
            except Exception as fault:
                error = FaultInRun(f"A fault in Amphora: {type(fault).__name__}: {fault}.")
                error.__cause__ = fault
            except BaseException:
                stage.ledger.journal.end(run, BROKEN_OFF, "It was stopped at once.")
                raise
            outcome = failed(stage, run, error, lambda _: False, {})
            return outcome.run, outcome.failure
