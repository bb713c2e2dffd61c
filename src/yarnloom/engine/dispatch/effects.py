"""The ledger: side effects that are begun and done, so that no attempt repeats them silently.

`begun` is written before the effect and `done` after it. An entry that was begun by an attempt
which has ended is unsure: whether it happened nobody here can know, and nothing repeats it until
the task's own rule, or a person, says so.
"""

from __future__ import annotations

import contextlib
import hashlib
from dataclasses import dataclass, replace

from yarnloom.engine.commands import BeginEffect, EndEffect, SettleEffect, handles
from yarnloom.engine.records.runs import SettledEffect
from yarnloom.engine.records.workers import BegunEffect
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.settings import Folder
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.errors import Conflict, FolderUnusable, InvalidInput, NotFound
from yarnloom.masking import masked_text, worth_masking
from yarnloom.secrets import Vault, has_sealed, sealed_in
from yarnloom.store import AttemptRow, Unit
from yarnloom.store.runs import effect_records
from yarnloom.store.runs import run_records as store
from yarnloom.store.runs.effect_records import EffectEntry
from yarnloom.values import DEPTH_LIMIT, VALUE_LIMIT, JsonValue, decode, encode, encode_given

BEGUN, DONE, NOT_DONE = "begun", "done", "not_done"


@dataclass(slots=True)
class Effects:
    """Keeps the ledger of effects."""

    unit: Unit
    time: RunTime
    plans: Plans
    changes: Changes
    vault: Vault
    folder: Folder

    def begin_effect(self, command: BeginEffect) -> BegunEffect:
        """Write down that a side effect begins, or say why it must not.

        Raises:
            Conflict: the attempt is not this worker's any more.
        """
        attempt = self.unit.attempts.get(command.attempt)
        if attempt is None or attempt.worker != command.worker or attempt.outcome is not None:
            raise Conflict("the attempt was given up, so it begins nothing outside any more")
        if masked_text(command.what, self._secrets(attempt)) != command.what:
            raise InvalidInput("the name of an effect holds a secret param; name it without")
        scope = self._scope(attempt, command.scope)
        found = effect_records.find_entry(self.unit, attempt.run, scope, command.what)
        token = found.token if found else _token(self.folder.id, attempt.run, scope, command.what)
        # The ledger knows an effect by its name alone: a second call of that name would get the
        # answer of the first.
        if found is not None and command.scope == "step" and found.position != command.position:
            raise Conflict(
                f"{command.what!r} was used {_place(found.position)}, and is used again "
                f"{_place(command.position)}: it would not be done again, in silence. Give each "
                "effect a name of its own, as in once(f'mail {name}', ...)"
            )
        if found is not None and found.state != NOT_DONE:
            now = _standing(self.unit, found, command)
            if now == DONE:
                if found.by is not None and found.used_at is None:
                    effect_records.keep_entry(self.unit, replace(found, used_at=self.time.now))
                value = self.vault.open(decode(found.value or "null"))
                return BegunEffect(DONE, token, value)
            if now == "same":
                return BegunEffect("go", token)  # sent again, because the answer was lost
            if now == "busy" or not command.again:
                return BegunEffect(now, token)
        effect_records.keep_entry(
            self.unit,
            EffectEntry(
                attempt.run,
                scope,
                command.what,
                BEGUN,
                attempt.id,
                command.call,
                token,
                None,
                self.time.now,
                None,
                None,
                int(command.is_used),
                position=command.position,
            ),
        )
        self.changes.runs.add(attempt.run)
        return BegunEffect("go", token)

    @handles(EndEffect)
    def end_effect(self, command: EndEffect) -> None:
        """Write down that a side effect was done, or did not happen.

        Also an attempt that was given up may say so: it is the truth, unless somebody has decided
        otherwise meanwhile.

        Raises:
            Conflict: the entry is not this attempt's any more.
        """
        attempt = self.unit.attempts.get(command.attempt)
        if attempt is None or attempt.worker != command.worker:
            raise Conflict("this worker was never given that attempt")
        scope = self._scope(attempt, command.scope)
        found = effect_records.find_entry(self.unit, attempt.run, scope, command.what)
        if found is None and not command.done:
            return  # sent again
        if found is None or found.attempt != attempt.id:
            raise Conflict(f"{command.what!r} was decided otherwise meanwhile")
        if not command.done:
            effect_records.drop_entry(self.unit, attempt.run, scope, command.what)
        elif found.state == BEGUN:
            encode_given(command.value, f"what {command.what!r} gave")
            kept = sealed_in(command.value, self._secrets(attempt), self.vault.seal)
            done = replace(found, state=DONE, value=encode_sealed(kept), done_at=self.time.now)
            effect_records.keep_entry(self.unit, done)
        self.changes.runs.add(attempt.run)

    @handles(SettleEffect)
    def settle_effect(self, command: SettleEffect) -> SettledEffect:
        """Take somebody's word on whether an unsure side effect was done.

        Who said something wrong can say otherwise, until an attempt has used it.

        Raises:
            NotFound: the ledger has no such entry.
            Conflict: it is not unsure.
            InvalidInput: the task uses what it gave, and that was not said.
        """
        run = self.unit.run(command.run)
        found = effect_records.find_entry(self.unit, run.number, command.scope, command.what)
        if found is None:
            where = f"{run.number}/{command.scope}" if command.scope else f"run {run.number}"
            raise NotFound(f"the ledger of {where} has no {command.what!r}")
        if found.state == DONE and found.by is None:
            raise Conflict(f"{command.what!r} is done already; nobody doubts it")
        # Nobody can take back what an attempt did because of it.
        if found.used_at is not None:
            said = f"{found.by} said that {command.what!r} was done"
            raise Conflict(f"{said}, and an attempt has used that; it cannot be said otherwise now")
        if found.state == BEGUN and self.unit.attempts.need(found.attempt).outcome is None:
            raise Conflict(f"{command.what!r} is being done at this moment; it is not unsure")
        if command.done and command.value is None and not command.valued and found.is_used:
            raise InvalidInput(
                f"the step uses what {command.what!r} gave, and no value was given; expected that "
                "value too, or null where it gave nothing",
                hint="As in --value '{\"id\": 7}'",
            )
        if command.done:
            value = encode_given(command.value, f"what {command.what!r} gave")
            done = replace(found, state=DONE, value=value, done_at=self.time.now, by=command.who)
            effect_records.keep_entry(self.unit, done)
        else:
            undone = replace(found, state=NOT_DONE, value=None, done_at=None, by=command.who)
            effect_records.keep_entry(self.unit, undone)
        store.log_command(
            self.unit,
            self.time.now,
            command.who,
            "settle",
            run.number,
            command.reason,
            step=command.scope or None,
            effect=command.what,
            done=command.done,
        )
        self.changes.runs.add(run.number)
        return SettledEffect(command.what, DONE if command.done else "not done")

    def _scope(self, attempt: AttemptRow, scope: str) -> str:
        """Whose entries an attempt uses: its step's, by address, or the whole run's."""
        if scope == "run":
            return ""
        run = self.unit.run(attempt.run)
        step = self.unit.steps.need(attempt.step)
        node = self.plans.of(run).nodes[step.node]
        return self.plans.address(run, node, self.unit.parts.need(step.part)).partition("/")[2]

    def _secrets(self, attempt: AttemptRow) -> tuple[str, ...]:
        """The secret texts that an attempt was given, those worth looking for."""
        text = self.unit.steps.need(attempt.step).input
        found: list[str] = []
        if has_sealed(text):
            with contextlib.suppress(FolderUnusable):
                self.vault.open(decode(text), found)
        return worth_masking(found)


def _place(position: str) -> str:
    """Where in a step an effect is, in words."""
    loop, _, item = position.rpartition("#")
    if not position:
        return "outside of every loop"
    return f"at item {item} of the loop" + (f" {loop!r}" if loop else "")


def _standing(unit: Unit, found: EffectEntry, command: BeginEffect) -> str:
    """How an entry stands for an attempt that wants to begin it."""
    if found.state == DONE:
        return DONE
    if found.attempt == command.attempt:
        return "same" if found.call == command.call else "unsure"
    return "unsure" if unit.attempts.need(found.attempt).outcome is not None else "busy"


def encode_sealed(value: JsonValue) -> str:
    """A value that was looked at before, and has grown by its seals."""
    return encode(value, limit=4 * VALUE_LIMIT, depth=DEPTH_LIMIT + 1)


def _token(service_id: str, run: int, scope: str, what: str) -> str:
    text = f"{service_id}/{run}/{scope}/{what}"
    return hashlib.blake2s(text.encode(), digest_size=16).hexdigest()
