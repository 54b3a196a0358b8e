"""The story of the guided example: chapters of scenes, each a real command with one line on what to see."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field

from amphora.core.values.late import dataclass


@dataclass(frozen=True)
class Scene:
    """One command, what to see in it, and the exit codes that belong to the story."""

    words: str
    command: str
    codes: tuple[int, ...] = (0,)
    env: Mapping[str, str] = field(default_factory=dict)

    @property
    def shown(self) -> str:
        """The command as it would be typed."""
        given = "".join(f"{name}={'…' if 'TOKEN' in name else value} " for name, value in self.env.items())
        return f"{given}amphora {self.command}"


@dataclass(frozen=True)
class Chapter:
    """A part of the story; `needs` are the chapters that have to be played before it."""

    name: str
    heading: str
    scenes: tuple[Scene, ...]
    needs: tuple[str, ...] = ()


CHAPTERS: tuple[Chapter, ...] = (
    Chapter(
        "looking",
        "Looking round",
        (
            Scene("A workspace keeps packages, the crosswalk and the ledger.", "init"),
            Scene("Four environments of Halcyon Grove, simulated, each in a file.", "practice new ."),
            Scene("", "env list"),
            Scene("What is there, who touched it last, what is on and what is live.", "survey grove-dev"),
            Scene("The same by folders; and only what changed lately.", "survey grove-dev --tree"),
            Scene("", "survey grove-dev --changed-since 2026-04-05 --sort changed"),
            Scene(
                "What an app uses, and where; who uses it. As a figure, too.",
                'uses grove-dev "Harvest Intake" --figure intake.svg',
            ),
            Scene(
                "What would go into a package, and why each item is in; nothing is written.",
                'export grove-dev "Press Board" --as press-hall --with access --preview',
            ),
        ),
        (),
    ),
    Chapter(
        "crossing",
        "A first crossing",
        (
            Scene(
                "An app with all that it uses; somebody thinks the varieties are in the target anyway.",
                'export grove-dev "Harvest Intake" --as olive-intake --leave-out "Olive varieties"',
            ),
            Scene("They are not, and check says so before anything leaves.", "check olive-intake grove-live", (3,)),
            Scene(
                "What used to take an afternoon of walking to and fro: it is packed as well, as the next version.",
                "check olive-intake grove-live --fix",
                (3,),
            ),
            Scene("What is in the package, and what it needs without carrying it.", "peek olive-intake"),
            Scene(
                "The same as a plain folder, one item a file, for version control; and back, to the same digest.",
                "to-folder olive-intake intake",
            ),
            Scene("", "from-folder intake --out again.amphora"),
            Scene("Exported again, nothing has changed, and nothing is written.", "export olive-intake"),
            Scene("The crosswalk: what is guessed and what is open.", "map olive-intake grove-live", (1,)),
            Scene(
                "Guesses accepted, the rest filled in (in the file, or like this).",
                "map olive-intake grove-live --accept --set mill-db-dev=mill-main --set office-db-dev=office-main"
                " --set bruised-fruit-check-limit=15 --set weigh-ticket-batch=40",
            ),
            Scene("Where texts are rewritten, and how: before and after.", "map olive-intake grove-live --texts"),
            Scene("Everything is answered: it can go.", "check olive-intake grove-live"),
            Scene(
                "Not everything can go everywhere: another region, an older release, a table that isn't there.",
                'export grove-dev "Press yield" "Weighbridge feed" --as press-south',
            ),
            Scene("", "check press-south grove-south", (3,)),
            Scene(
                "What the import will do, item by item. The theme is there already, and the same.",
                "compare olive-intake grove-live",
                (1,),
            ),
            Scene(
                "The import: created in order, published, switched on, verified; old and new links.",
                "import olive-intake grove-live --yes",
            ),
            Scene("Is the target what was promised?", "verify olive-intake grove-live"),
            Scene("Importing the same again changes nothing, and says so.", "import olive-intake grove-live --yes"),
        ),
        ("looking",),
    ),
    Chapter(
        "mending",
        "Mending, merging and deciding",
        (
            Scene(
                "Later: the source moves on, and somebody mends the live side by hand.",
                'practice edit grove-dev.practice "Bruised fruit check" --set /starts_on/event=\'"changed"\''
                ' --set title="Bruised fruit alarm"',
            ),
            Scene(
                "",
                'practice edit grove-live.practice "Bruised fruit check" --set /steps/0/note=\'"ask the lab"\'',
            ),
            Scene("The same item, renamed; a minor version.", 'export grove-dev "Harvest Intake" --as olive-intake'),
            Scene(
                "Who changed what since the last delivery: field by field, and the fix is not lost.",
                "compare olive-intake grove-live --docket live.docket.yaml",
                (1,),
            ),
            Scene(
                "--yes alone does not cover an item that somebody edited there …",
                "import olive-intake grove-live --yes",
                (3,),
            ),
            Scene("… the reviewed docket does.", "import live.docket.yaml --yes"),
            Scene(
                "The next version: the fix survives this one too.",
                'practice edit grove-dev.practice "Weigh ticket" --set /starts_on/event=\'"weighed"\'',
            ),
            Scene("", "export olive-intake"),
            Scene("", "compare olive-intake grove-live --docket live.docket.yaml", (1,)),
            Scene("", "import live.docket.yaml --yes"),
            Scene(
                "What on the live side isn't as it was packed; and back with it to where things are built.",
                "edits grove-live",
                (1,),
            ),
            Scene("", "edits grove-live --carry-back"),
            Scene("", "compare grove-live-edits grove-dev", (1,)),
            Scene("", "import grove-live-edits grove-dev --yes"),
            Scene(
                "Both sides change the same field: a clash, which somebody decides.",
                'practice edit grove-dev.practice "Weigh slip" --set /subject=\'"Your weigh ticket {ticket}"\'',
            ),
            Scene(
                "",
                'practice edit grove-live.practice "Weigh slip" --set /subject=\'"Halcyon Grove: ticket {ticket}"\'',
            ),
            Scene("", "export olive-intake"),
            Scene("", "compare olive-intake grove-live --only clash", (3,)),
            Scene("", "import olive-intake grove-live --yes", (3,)),
            Scene(
                "Decided for the package's words, and kept in a file that can be reviewed.",
                'compare olive-intake grove-live --choose "Weigh slip=package" --docket live.docket.yaml',
                (1,),
            ),
            Scene("", "import live.docket.yaml --yes"),
            Scene(
                "A flow that a second package brings as well: nothing is overridden without a word.",
                'practice edit grove-dev.practice "Weigh ticket" --set /steps/1/copies=2',
            ),
            Scene("", 'export grove-dev "Weigh ticket" --as tickets'),
            Scene("", "import tickets grove-live --yes", (3,)),
            Scene("", "import tickets grove-live --yes --take-over olive-intake"),
            Scene("", 'deliveries grove-live "Weigh ticket"'),
        ),
        ("looking", "crossing"),
    ),
    Chapter(
        "removing",
        "What is no longer packed",
        (
            Scene(
                "A table with its rows is brought, and no longer packed later.",
                'export grove-dev "Press log" --as logs --with records',
            ),
            Scene("", "import logs grove-live --yes --with records"),
            Scene("", 'export grove-dev "Press lines" --as logs'),
            Scene("It stays, with its rows, until somebody says otherwise.", "compare logs grove-live"),
            Scene(
                "Retired with a word: definition and rows are kept first.",
                'import logs grove-live --yes --retire "Press log"',
            ),
        ),
        ("looking", "crossing"),
    ),
    Chapter(
        "pausing",
        "Pauses and bad moments",
        (
            Scene(
                "A connection that can only be made once an integration of the same package is there.",
                'export grove-dev "Lab exchange" "Lab result intake" --as lab',
            ),
            Scene(
                "",
                'map lab grove-live --accept --made-from "lab-exchange-dev=Lab exchange"'
                " --set lab-exchange-every_minutes=5"
                " --set lab-result-intake-batch=20",
            ),
            Scene("Said before it starts: it will pause, once, and for whom.", "import lab grove-live --preview"),
            Scene(
                "What comes before the pause goes in; nothing of it is switched on.",
                "import lab grove-live --yes",
                (5,),
            ),
            Scene(
                "Days later somebody has made it, by hand.",
                "practice connect grove-live.practice lab-exchange-live --type exchange",
            ),
            Scene("Amphora looks, finds something new, and takes nothing for granted.", "resume", (5,)),
            Scene("The rest goes in, and all is switched on.", "resume --set lab-exchange-dev=lab-exchange-live"),
            Scene(
                "A platform has a bad moment in the middle of an import: everything is put back.",
                'export grove-dev "Payout run" --as payouts',
            ),
            Scene("", "map payouts grove-live --accept --set payout-run-batch=100", (0, 1)),
            Scene("", "practice trouble grove-live.practice --after 3"),
            Scene("", "import payouts grove-live --yes", (4,)),
            Scene(
                "Or what is done is kept, and somebody goes on when the cause is mended.",
                "practice trouble grove-live.practice --after 3",
            ),
            Scene("", "import payouts grove-live --yes --if-it-fails keep", (6,)),
            Scene("", "resume"),
        ),
        ("looking", "crossing"),
    ),
    Chapter(
        "many",
        "Many targets, copies and older releases",
        (
            Scene(
                "One package for several targets: what is done stays, what failed is put back.",
                'export grove-dev "Olive varieties" "Fruit condition" --as lists',
            ),
            Scene("", "practice trouble grove-south.practice --after 1"),
            Scene("", "import lists grove-test grove-south --rounds one-then-rest --yes", (6,)),
            Scene("The command that was offered brings the rest, and only that.", "resume many-1"),
            Scene(
                "Under another title there; the next version will arrive as this one did.",
                'import lists grove-south --yes --title "Olive varieties=Varieties (south)"',
            ),
            Scene(
                "A second one beside it, to try something; it is a package of its own from then on.",
                "import lists grove-test --copy trial --folder intake=trial --yes",
            ),
            Scene("", "verify lists~trial grove-test"),
            Scene(
                "The southern mill runs an older release, where a theme is a skin: what fits is converted, and said.",
                'export grove-dev "Olive" "Press Hall" --as looks',
            ),
            Scene("", "check looks grove-south", (3,)),
            Scene("", 'import looks grove-south --yes --leave "Press Hall"'),
        ),
        ("looking",),
    ),
    Chapter(
        "guided",
        "The guided way",
        (
            Scene(
                "The same in one go: the commands first, and nothing run.",
                'carry "Harvest Intake" grove-dev grove-test --as olive-intake --dry',
            ),
            Scene(
                "Each command as it would be typed. Run again, it goes on where it stopped.",
                'carry "Harvest Intake" grove-dev grove-test --as olive-intake --accept --yes',
            ),
        ),
        ("looking",),
    ),
    Chapter(
        "finishing",
        "Finishing, and showing it",
        (
            Scene(
                "The next version, with what its maker wants to be done after each import.",
                'practice edit grove-dev.practice "Deliveries by variety" --set title="Deliveries by day"',
            ),
            Scene("", 'export olive-intake --afterwards "Tell the gate crew"'),
            Scene(
                "A docket, and a page for whoever approves.",
                "compare olive-intake grove-live --docket live.docket.yaml --html approve.html",
                (1,),
            ),
            Scene(
                "Petra looks at it on her machine, and agrees.", "keys new petra", env={"XDG_CONFIG_HOME": "petra"}
            ),
            Scene("", "sign live.docket.yaml --key petra", env={"XDG_CONFIG_HOME": "petra"}),
            Scene("Who agreed, and to what.", "peek live.docket.yaml"),
            Scene("It goes in, with the reason.", 'import live.docket.yaml --yes --why "Harvest begins on Monday"'),
            Scene("What is still to do, over all runs.", "aftercare grove-live", (1,)),
            Scene(
                "A secret is never carried: the crosswalk says where it is kept, and it is entered from there.",
                "map olive-intake grove-live --set weigh-ticket-webhook-token=env:WEIGH_TICKET_TOKEN",
            ),
            Scene("", "aftercare grove-live --do", (0, 1), {"WEIGH_TICKET_TOKEN": "q7-Kd03-vN51-xW88"}),
            Scene(
                "What only people can do is ticked off by name.",
                'aftercare grove-live --tick all --by "Mara Lind" --note "told at the gate"',
            ),
            Scene(
                "Is all of it as promised, and nothing else changed? For machines, too.",
                "verify last --junit verify.xml",
            ),
            Scene(
                "The run is complete; its record, for half a year later, as a page.",
                "history last --html record.html",
            ),
            Scene(
                "What is in force where, and what is not in order.",
                "overview --figure overview.png --html overview.html",
            ),
            Scene("Who moved what when.", "history"),
        ),
        ("looking", "crossing"),
    ),
)
