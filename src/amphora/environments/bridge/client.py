"""One signed-in line to a platform that a bridge sheet describes: calls, lists in pages, and its refusals in our
words."""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any, NoReturn

import httpx

from amphora.core.form.places import values_at
from amphora.core.form.visit import with_texts
from amphora.core.values.errors import AmphoraError, EnvironmentRefused
from amphora.core.values.model import Json
from amphora.core.values.next_step import NOTHING, advice
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments.answers import is_busy, wait_s
from amphora.environments.bridge import lines
from amphora.environments.bridge.answer import Absent, Answer, is_plain, json_of, may_be_json, type_of
from amphora.environments.bridge.forms import fields_of, form_of, holds_files
from amphora.environments.bridge.jobs import awaited
from amphora.environments.bridge.pages import Place, query_of
from amphora.environments.bridge.parts import BridgeSheet, Call, pages_of
from amphora.environments.bridge.paths import (
    bare_id,
    filled,
    holds_list,
    is_told_empty,
    listed_count,
    text_at,
    unkeyed,
    value_at,
    with_id,
)
from amphora.environments.bridge.refusals import KINDS, bare, meaning, said_at, words_in
from amphora.environments.bridge.sign_in import signed_in
from amphora.environments.calls import Caller, headed
from amphora.environments.contract import NEXT

MOST_PAGES = 100_000
MOST_LED = 4
"""So many addresses are gone to for one call: a slash, a new path, and that is it."""

_LED_AS_IT_IS = (httpx.codes.TEMPORARY_REDIRECT, httpx.codes.PERMANENT_REDIRECT)
_LED = (*_LED_AS_IT_IS, httpx.codes.MOVED_PERMANENTLY, httpx.codes.FOUND)
_SECRET_KINDS = {"client": "a client's secret", "basic": "a password", "login": "a password"}


class Client(Caller):
    """`secret` is what the sheet's `sign_in.how` says: a token, a password, a key, or the secret of a client."""

    def __init__(self, sheet: BridgeSheet, base_url: str, user: str, secret: str, ca_file: str = "") -> None:
        how = sheet.sign_in.get("how", "none")
        super().__init__(base_url, f"{sheet.title} does", _SECRET_KINDS.get(how, "a key or token"), ca_file)
        self.sheet = sheet
        self._user, self._secret = user, headed(secret, base_url)
        # Stands for the token in bodies until they are sent: a word that no item can hold by chance or by malice.
        self._mark, self._shown = secrets.token_hex(16), self._secret
        self._is_renewable = how in ("client", "login")
        self._http.headers["Accept"] = "application/json"

    def unlike(self) -> EnvironmentRefused:
        """That what answers is something else, or somewhere else."""
        error = super().unlike()
        error.next_step = advice("Check its location in amphora.toml, and `base` in the bridge sheet.")
        return error

    def with_id(self, row: Json, paths: Mapping[str, str]) -> Json:
        """A row or an answer whose id is the bare one, whatever the platform writes around it."""
        return with_id(row, paths["id"], self._here(paths.get("id_form", "")))

    def made(self, answer: Answer, where: str, form: str, paths: Mapping[str, str]) -> str:
        """The id of what was made, by an answer (see `Answer.id_at`); `form` is what stands around it there."""
        usual = paths.get("id_form", "")
        said = answer.location if where == lines.IN_HEADER else answer.id_at(where)
        if form or (usual and where == paths["id"]):
            return bare_id(said, self._here(form or usual))
        # Elsewhere in an answer it may be written as everywhere, or bare.
        return (usual and bare_id(said, self._here(usual))) or answer.id_at(where)

    def _here(self, form: str) -> str:
        return form.replace(lines.BARE, self.base_url)

    def ask(self, call: Call, values: Mapping[str, Json] | None = None, query: str = "") -> Answer:
        """What a call that changes nothing answers."""
        if name := call.said("as_text"):
            # As it is: the text is all that the platform shows of it.
            found = self._content_of(call, values or {})
            if (media := call.said("media")) and type_of(found) != media:
                raise self.otherwise(call, f"it answers {type_of(found) or 'no type'}, and not {media}")
            return Answer({name: self._decoded(call, found)}, found.headers.get("ETag", ""))
        return self._sent(call, values or {}, None, {}, query, is_read=True)

    def change(
        self, call: Call, values: Mapping[str, Json], body: Json = None, headers: Mapping[str, str] | None = None
    ) -> Answer:
        """What a call that changes something answers: with `body` where the sheet says none. Where that is a job,
        what the job came to."""
        return self._awaited(call, values, self._sent(call, values, body, headers or {}, "", is_read=False))

    def _awaited(self, call: Call, values: Mapping[str, Json], answer: Answer) -> Answer:
        job: Call | None = call.said("job", None)
        return awaited(self.ask, job, answer, values, self.base_url) if job else answer

    def rows(self, call: Call, values: Mapping[str, Json] | None = None) -> list[Json]:
        """All rows of a list, whichever way it comes in pieces."""
        return list(self.each(call, values))

    def each(self, call: Call, values: Mapping[str, Json] | None = None) -> Iterator[Json]:
        """The same row by row, without holding more than a piece."""
        pages, place = pages_of(call), Place()
        for _ in range(MOST_PAGES):
            if place.near:
                # With all that is said of the list: where the page after this one is, too.
                near = replace(call, method="GET", path=place.near, body=None)
                answer = self._sent(near, {}, None, {}, "", is_read=True)
            else:
                at = place.values(pages)
                answer = self.ask(call, {**(values or {}), **at}, query_of(call, pages, at))
            yield from self._rows_in(call, answer)
            # Counted and not asked for: servers give what they like; and before a filter of the sheet's own, for what
            # that leaves out came as well.
            got = listed_count(answer.body, call.said("rows", "$[*]"))
            named = (
                self.near(text_at(answer.body, pages.next)) if pages.how == "link" and pages.next else answer.location
            )
            if not place.went_on(pages, answer.body, got, named):
                return
        raise self.otherwise(call, "it never comes to an end")

    def _rows_in(self, call: Call, answer: Answer) -> list[Json]:
        where = call.said("rows", "$[*]")
        found = values_at(answer.body, where)
        # An empty list is an answer; no list at all is not what the sheet describes.
        if not found and not holds_list(answer.body, where) and not self._leaves_out(answer.body):
            raise self.otherwise(call, f"at {where} there is no list")
        return found

    def _leaves_out(self, body: Json) -> bool:
        """Whether what isn't in an answer may be empty: some platforms leave that out."""
        return self.sheet.leaves_out and isinstance(body, dict)

    def _sent(
        self,
        call: Call,
        values: Mapping[str, Json],
        body: Json,
        headers: Mapping[str, str],
        query: str,
        is_read: bool,
    ) -> Answer:
        values = {"user": self._user, "address": self.base_url, **values}
        path = self.path_of(call.path, values)
        path += ("&" if "?" in path else "?") + query if query else ""
        # What is sent stands inside of what the sheet says, or is all of it.
        inner = {**values, "definition": body, "token": self._mark}
        sent = filled(call.body, inner) if call.body is not None else body
        options: dict[str, Any] = {"json": sent} if sent is not None else {}
        if isinstance(sent, dict) and holds_files(sent):
            options = form_of(sent, str(values.get("title") or ""))
        elif isinstance(sent, dict) and call.said("as_form", False):
            options = fields_of(sent)
        elif isinstance(sent, dict) and (name := call.said("as_text")):
            options = {"content": self._text_in(sent, name, values).encode()}
            headers = {**headers, "Content-Type": f"{call.said('media') or 'text/plain'}; charset=utf-8"}
        call = call.placed(values) if is_read else call
        return self._understood(call, self._exchanged(call, path, values, headers, options, is_read), is_read)

    def content(self, call: Call, values: Mapping[str, Json]) -> tuple[bytes, str]:
        """The bytes that a call answers, and their media type; Absent where there are none."""
        answer = self._content_of(call, values)
        if not answer.content:
            raise Absent(f"{self.base_url} has nothing there.", subject=self.base_url)
        return answer.content, type_of(answer)

    def text(self, call: Call, values: Mapping[str, Json]) -> str:
        """The text that a call answers, which may be empty; Absent where there is none."""
        return self._decoded(call, self._content_of(call, values))

    def _text_in(self, sent: Mapping[str, Any], name: str, values: Mapping[str, Json]) -> str:
        """The one member that is sent, where a call takes that and nothing else."""
        text = sent.get(name)
        if not isinstance(text, str):
            title = values.get("title") or self.base_url
            raise EnvironmentRefused(
                f"{title!r} holds no text at {name}, which is all that is sent.", subject=str(title)
            )
        return text

    def _decoded(self, call: Call, answer: httpx.Response) -> str:
        try:
            return answer.content.decode(answer.charset_encoding or "utf-8")
        except (UnicodeDecodeError, LookupError) as error:
            raise self.otherwise(call, "what it answers is no text") from error

    def _content_of(self, call: Call, values: Mapping[str, Json]) -> httpx.Response:
        """The answer to a call that reads what may be no JSON."""
        values = {"address": self.base_url, **values}
        answer = self._exchanged(call, self.path_of(call.path, values), values, {"Accept": "*/*"}, {}, is_read=True)
        # What is JSON may be a refusal all the same, where these are answered like anything else.
        if self.sheet.refused and may_be_json(answer):
            body = json_of(answer)
            if body is not None and self._is_refusal(answer, body):
                self._refuse(call, answer, is_read=True)
        return answer

    def send(self, call: Call, values: Mapping[str, Json], content: bytes, media_type: str) -> None:
        """Sends bytes: as they are, or as the part of a form that the sheet names."""
        values, part = {"address": self.base_url, **values}, call.said("part")
        # By the item's name: some platforms call what they keep so.
        named = (str(values.get("title") or part), content, media_type)
        options: dict[str, Any] = {"files": {part: named}} if part else {"content": content}
        headers = {} if part else {"Content-Type": media_type}
        answer = self._exchanged(call, self.path_of(call.path, values), values, headers, options, is_read=False)
        body = json_of(answer)
        # What it says of a file that it took is its own matter; that it did not take it is not.
        if body is not None and self._is_refusal(answer, body):
            self._refuse(call, answer, is_read=False)
        if call.said("job", None):
            self._awaited(call, values, self._understood(call, answer, is_read=False))

    def _exchanged(
        self,
        call: Call,
        path: str,
        values: Mapping[str, Json],
        headers: Mapping[str, str],
        options: dict[str, Any],
        is_read: bool,
    ) -> httpx.Response:
        """The answer to a call that was not refused."""
        # What the sheet says of a call counts more than what is usual.
        more = {**headers, **{name: str(filled(text, values)) for name, text in call.headers.items()}}
        answer = self._followed(call.method, path, is_read, more, options)
        # Many calls may have one path: for whoever writes the sheet its own name says more.
        self.last[-1] += f" ({call.name})" if call.name else ""
        if answer.is_error or answer.is_redirect:
            self._refuse(call, answer, is_read)
        self.pace.well()
        return answer

    def _followed(
        self, method: str, path: str, is_read: bool, headers: Mapping[str, str], options: dict[str, Any]
    ) -> httpx.Response:
        """The answer to a call, where that leads elsewhere on this server (a slash at the end, a new path): from
        there. To a sign-in page and to other servers nobody is led."""
        told = {status for one in self.sheet.means for status in one.statuses}
        location = ""
        # So often and no more: what is the same address for us, as with another scheme, leads round in circles.
        for _ in range(MOST_LED):
            answer = self.exchange(method, path, is_read, headers, **options)
            status, leads = answer.status_code, answer.headers.get("Location", "")
            if not leads or status in told or not self._is_near(leads):
                break
            if status == httpx.codes.SEE_OTHER and not is_read:
                # It was done, and what came of it stands elsewhere (RFC 9110, section 15.4.4).
                method, is_read, options, location = "GET", True, {}, leads
            elif status not in (_LED if is_read else _LED_AS_IT_IS):
                break
            path = self.near(leads)
        if location:
            answer.headers["Location"] = location
        return answer

    def _is_near(self, leads: str) -> bool:
        try:
            return bool(self.near(leads))
        except EnvironmentRefused:
            return False

    def _may_repeat(self, answer: httpx.Response, is_read: bool) -> bool:
        # A gateway may say 503 of a write that went through; one that names a time to wait has refused it.
        is_sure = answer.status_code == httpx.codes.TOO_MANY_REQUESTS or "Retry-After" in answer.headers
        return super()._may_repeat(answer, is_read) or (is_busy(answer) and is_sure)

    def _dressed(self, options: dict[str, Any]) -> dict[str, Any]:
        sent = options.get("json")
        # By text and not by place: where it stands is the sheet's to say.
        if sent is None or self._mark not in json.dumps(sent):
            return options
        return {**options, "json": with_texts(sent, lambda text: self._shown if text == self._mark else text)}

    def _is_refusal(self, answer: httpx.Response, body: Json) -> bool:
        refused = self.sheet.refused
        return answer.is_error or (refused is not None and refused.holds(body))

    def _is_unsigned(self, answer: httpx.Response) -> bool:
        # Only where the sheet says how that looks here: to read every answer twice would cost more than it is worth.
        ended = [one for one in self.sheet.means if one.means == "signed out"]
        if super()._is_unsigned(answer) or not ended:
            return super()._is_unsigned(answer)
        body = json_of(answer)
        code = text_at(body, self.sheet.code)
        # Of a good answer the words may be anybody's: those of an item's own text.
        return self._is_refusal(answer, body) and any(
            one.fits(answer.status_code, code, answer.text) for one in ended
        )

    def _understood(self, call: Call, answer: httpx.Response, is_read: bool) -> Answer:
        body: Json = None
        if answer.content.strip():
            try:
                body = parse_json(answer.content)
            except JsonFault as error:
                # A page that says "please wait" with 200: of a write nobody knows what became of it.
                if is_read or not (is_plain(answer) or call.said("as_text")):
                    raise self.lost(is_read, "answers with something that is no JSON") from error
            # Some say 200 to everything, and tell inside that they refuse.
            if body is not None and self._is_refusal(answer, body):
                self._refuse(call, answer, is_read)
        elif is_read:
            raise self.otherwise(call, "it answers nothing")
        if keyed := call.said("keyed", None):
            body = unkeyed(body, keyed["at"], keyed["as"])
        try:
            # Where the next page is, too: some say it in a header of their own.
            named = answer.headers.get(header, "") if (header := call.said("pages", {}).get("header")) else ""
            beside = answer.headers.get("Location", "") or answer.links.get("next", {}).get("url", "")
            location = self.near(named or beside)
        except EnvironmentRefused:
            # Of a write that took effect: where it leads is not followed, and is no refusal.
            if is_read:
                raise
            location = ""
        asked = wait_s(answer) if "Retry-After" in answer.headers else 0.0
        if name := call.said("from_header"):
            return Answer(answer.headers.get(name, ""))
        at = value_at(body, call.at) if call.at != "$" and body is not None else body
        if at is None and body is not None and is_read:
            if is_told_empty(body, call.at) or self._leaves_out(body):
                raise Absent(f"{self.base_url} has nothing there.", subject=self.base_url)
            raise self.otherwise(call, f"at {call.at} there is nothing")
        # Lists keep what stands around them: the next cursor, the total.
        whole = body if call.said("rows") else at
        return Answer(whole, answer.headers.get("ETag", ""), location, asked)

    def _sign_in(self) -> Mapping[str, str]:
        signed = signed_in(self, self.sheet, self._user, self._secret)
        self._shown = signed.shown
        return signed.headers

    def sign(self, call: Call, path: str, headers: Mapping[str, str], **options: Any) -> httpx.Response:
        """What a call answers by which one signs in; EnvironmentRefused where it knows nobody by that."""
        answer = self.call(call.method, path, is_read=True, headers=headers, **options)
        self.refuse_unsigned(answer)
        return answer

    def cookies(self) -> Mapping[str, str]:
        """The cookies that the platform has set; of one name the latest."""
        return {cookie.name: cookie.value or "" for cookie in self._http.cookies.jar}

    def path_of(self, said: str, values: Mapping[str, Json]) -> str:
        """Where a call goes: behind the base, or behind the bare address if the sheet says so. A whole address stands
        for itself: where somebody signs in by the sheet, or a place that the platform itself named."""
        path = str(filled(said.removeprefix(lines.BARE), values, is_path=True))
        is_whole = path.startswith(lines.SCHEMES) or said.startswith(lines.BARE)
        return path if is_whole else self.sheet.base + path

    def _refuse(self, call: Call, answer: httpx.Response, is_read: bool) -> NoReturn:
        """What a refusal means: as the sheet says, else as the status does."""
        status, body = answer.status_code, json_of(answer)
        if self._is_unsigned(answer):
            raise self.signed_out()
        means = meaning(self.sheet, call, status, body, answer.text)
        words = said_at(body, self.sheet.words) or words_in(body)
        if words and (where := said_at(body, self.sheet.pointer)):
            words = f"{words.rstrip('.')} (at {where})"
        if answer.is_redirect and answer.headers.get("Location"):
            leads = f"{status}, and leads to {bare(answer.headers['Location'])}"
            # Some do what they were asked to, and lead to a page that says so.
            if means is None and not is_read:
                raise self.lost(False, f"answers {call.method} {call.path} with {leads}")
            words = f"it answers {leads}"
        if means == "later":
            raise self.lost(True, f"is busy ({words.rstrip('.') or status})")
        if means is None and status >= httpx.codes.INTERNAL_SERVER_ERROR:
            said = f" ({words.rstrip('.')})" if words else ""
            words = f"failed with {status} at {call.method} {call.path}{said}"
            raise self.failed(answer, is_read, words)
        kind: type[AmphoraError] = KINDS.get(means or "", EnvironmentRefused)
        raise kind(
            f"{self.base_url} refused {call.method} {call.path}: {words.rstrip('.') or f'it answers {status}'}.",
            subject=self.base_url,
            place=f"{self.sheet.file}, {call.name}",
            next_step=NEXT.get((means or "").replace(" ", "-"), NOTHING),
        )

    def otherwise(self, call: Call, words: str) -> EnvironmentRefused:
        """That a call is answered otherwise than the sheet says."""
        return EnvironmentRefused(
            f"{self.base_url} answers {call.method} {call.path} otherwise than the bridge sheet says: {words}.",
            subject=self.base_url,
            place=f"{self.sheet.file}, {call.name}",
            next_step=advice(f"Mend {call.name} in the bridge sheet."),
        )
