"""A run that does aftercare: a few steps on items that are there, put back if one of them fails."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from amphora.core.form.secret_places import entered
from amphora.core.form.spots import mask_secrets
from amphora.core.plan.states import Image
from amphora.core.plan.steps import Drawn, Step
from amphora.core.values.errors import AmphoraError, EnvironmentRefused
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.engine.leaks import leaks_in_images, refuse_leaks
from amphora.engine.runs.attention import attended
from amphora.engine.runs.carrier import Carrier
from amphora.engine.runs.outcome import Outcome, attempted
from amphora.engine.runs.stage import Stage
from amphora.engine.steps import Bench
from amphora.environments.contract import Description
from amphora.ledger.records import AFTERCARE, DONE, Beginning, Run


@dataclass(frozen=True)
class CareMaterial:
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
        # Into the newest: a draft that somebody works on must not lose what they did to what is live.
        definition = entered(now.newest, self.forms.get(key), self.secrets[key], sheet.places.walk(now.newest))
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


def carry_out_care(
    stage: Stage,
    steps: Sequence[Step],
    before: Mapping[Key, Image | None],
    material: CareMaterial,
    package: str,
    version: str,
) -> tuple[Run, AmphoraError | None]:
    """Carries the steps out as a run of its own. A failure comes back with what it means for the target."""
    account = stage.environment.whoami().account
    with stage.ledger.locks.held(stage.uid, stage.opened.name, account, f"aftercare of {package}"):
        touched = {key: before.get(key) for step in steps for key in step.keys}
        # Before the journal has a line of it: what must not be kept is not to be kept there either.
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
            sheets=stage.sheets,
        )
        run = stage.ledger.journal.begin(beginning)
        bench = Bench(stage.environment, stage.habits, material, dict(touched))  # type: ignore[arg-type]
        with attended() as attention:
            carrier = Carrier(stage, run, bench, attention, stage.ledger.uid())

            # In one piece, so that whatever goes wrong in it is put back as in any other run.
            def all_of_it() -> Run:
                carrier.carry_out(steps, stage.opened.name)
                return stage.ledger.finish(run, DONE)

            # Nobody is asked whether half of it is to stay: a few steps are soon done again.
            ended = attempted(stage, run, all_of_it, lambda _: False, {})
    return (ended.run, ended.failure) if isinstance(ended, Outcome) else (ended, None)
