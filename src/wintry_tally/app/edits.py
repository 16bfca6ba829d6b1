"""Edits of a book as commands: each in words, with what does it and what takes it back. Nothing here shows anything.

Whoever follows the book's feed learns of an edit as of any other change; an edit says nothing itself.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC
from typing import TYPE_CHECKING, Any

from wintry_tally.app.opening import NEEDS, school_of
from wintry_tally.core.verdict.outcome import RULE_NAMES

if TYPE_CHECKING:
    from datetime import datetime

    from wintry_tally.app.known import Known
    from wintry_tally.app.places import PlaceSpec
    from wintry_tally.app.wishes import Wishes
    from wintry_tally.bench.equipment import Equipment
    from wintry_tally.bench.hand import HandReading
    from wintry_tally.book import Book, Run
    from wintry_tally.book.attachments import Attachment
    from wintry_tally.core.battery import Claim, Sample
    from wintry_tally.core.battery.banks import Bank
    from wintry_tally.core.verdict.outcome import School

OF_SAMPLE = frozenset({"code", "maker", "model", "family", "nominal_V"})
"""Columns of a sample that are its own and no part of its arrival."""


@dataclass(frozen=True)
class Edit:
    """One edit: `do` and `undo` raise a WintryError where the book refuses, and then nothing is changed.

    `field`: edits of one field that follow each other are taken back as one; empty for those that stand alone.
    `shown`: it changes what is shown and no book, and is done where it is asked for.
    """

    words: str
    do: Callable[[], object]
    undo: Callable[[], object]
    field: str = ""
    shown: bool = False


class Edits:
    """Every edit that a person can make of an open book. None stands for one that would change nothing."""

    def __init__(self, book: Book, known: Callable[[], Known] | None = None) -> None:
        self._book, self._known = book, known

    def add_sample(self, made: list[int]) -> Edit:
        """Hang a new tag; its number is put into `made`."""
        samples = self._book.samples

        def do() -> None:
            if made:
                samples.change(made[0], removed=False)
            else:
                made.append(samples.add(samples.next_code(), "", "", "lfp"))

        return Edit("hang a tag", do, lambda: samples.change(made[0], removed=True))

    def add_bank(self, bank: Bank, made: list[int]) -> Edit:
        """Hang a tag for a bank of units, with what they claim together; its number is put into `made`."""
        from wintry_tally.core.battery.banks import bank_claims

        samples, banks = self._book.samples, self._book.banks

        def do() -> None:
            if made:
                samples.change(made[0], removed=False)
                return
            first = bank.units[0]
            number = samples.add(
                samples.next_code(), first.maker, f"{first.model}, {bank.wiring}",
                first.family_key, None, bank.nominal_V if bank.series > 1 or first.nominal_V is not None else None,
            )  # fmt: skip
            banks.join(number, bank.series, [unit.id for unit in bank.units])
            for claim in bank_claims(bank):
                samples.add_claim(number, claim)
            made.append(number)

        return Edit(
            f"join {', '.join(unit.code for unit in bank.units)}", do, lambda: samples.change(made[0], removed=True)
        )

    def remove_sample(self, sample_id: int) -> Edit:
        """Take a tag off the rack; nothing is deleted."""
        samples = self._book.samples
        return Edit(
            "take off the tag",
            lambda: samples.change(sample_id, removed=True),
            lambda: samples.change(sample_id, removed=False),
        )

    def hang_again(self, sample: Sample) -> Edit:
        """Hang a tag again that was taken off; its code was kept for it."""
        samples, number = self._book.samples, sample.id
        return Edit(
            "hang the tag again",
            lambda: samples.change(number, removed=False),
            lambda: samples.change(number, removed=True),
        )

    def set_sample(self, sample: Sample, words: str, **values: Any) -> Edit | None:
        """Change columns of a sample."""
        before = {}
        for name in values:
            source = sample if name in OF_SAMPLE else sample.arrival
            before[name] = getattr(source, "family_key" if name == "family" else name)
        if before == values:
            return None
        change = self._book.samples.change
        field = f"notes:{sample.id}" if set(values) == {"notes"} else ""
        return Edit(words, lambda: change(sample.id, **values), lambda: change(sample.id, **before), field)

    def set_prose(self, sample_id: int, text: str) -> Edit | None:
        """Keep the tester's words."""
        samples = self._book.samples
        before = samples.prose(sample_id) if self._known is None else self._known().prose.get(sample_id, "")
        if text == before:
            return None
        return Edit(
            "change the words",
            lambda: samples.change(sample_id, prose=text),
            lambda: samples.change(sample_id, prose=before),
            f"prose:{sample_id}",
        )

    def add_claim(self, sample_id: int, claim: Claim) -> Edit:
        """Keep a claim; taken back and done again it keeps its number."""
        samples, made = self._book.samples, list[int]()

        def do() -> None:
            number = samples.add_claim(sample_id, replace(claim, id=made[0]) if made else claim)
            if not made:
                made.append(number)

        return Edit(f"add the claim “{claim.text or claim.kind}”", do, lambda: samples.remove_claim(made[0]))

    def change_claim(self, claim: Claim, made: Claim) -> Edit | None:
        """Change a claim in its place: its kind, value, conditions, source; it keeps its number."""
        assert claim.id is not None
        number, samples = claim.id, self._book.samples
        if replace(made, id=number) == claim:
            return None
        return Edit(
            f"change the claim “{claim.text or claim.kind}”",
            lambda: samples.change_claim(number, made),
            lambda: samples.change_claim(number, claim),
        )

    def order_claims(self, sample_id: int, wanted: Sequence[Claim]) -> Edit | None:
        """Put the claims of a sample into another order; None where they stand so."""
        samples = self._book.samples
        numbers = [claim.id for claim in wanted if claim.id is not None]
        known = self._sample(sample_id)
        if numbers == [claim.id for claim in known.claims]:
            return None
        before, after = list[dict[int, int | None]](), {number: place for place, number in enumerate(numbers)}

        def do() -> None:
            before.append(samples.claim_places(sample_id))
            samples.place_claims(sample_id, after)

        return Edit("order the claims", do, lambda: samples.place_claims(sample_id, before.pop()))

    def _sample(self, sample_id: int) -> Sample:
        """A sample as it is known."""
        known = () if self._known is None else self._known().samples
        found = next((one for one in known if one.id == sample_id), None)
        return self._book.samples.get(sample_id) if found is None else found

    def remove_claim(self, sample_id: int, claim: Claim) -> Edit:
        """Take a claim from the list; undo puts it back with its own number."""
        assert claim.id is not None
        number, samples, places = claim.id, self._book.samples, list[int | None]()

        def do() -> None:
            places.append(samples.claim_places(sample_id).get(number))
            samples.remove_claim(number)

        return Edit(
            f"remove the claim “{claim.text or claim.kind}”",
            do,
            lambda: samples.add_claim(sample_id, claim, places.pop()),
        )

    def enter(self, sample_id: int, claim: Claim, value: float | None, limit: float | None = None) -> Edit:
        """Enter what was measured or seen of a claim, in its unit (1 or 0 for yes or no); None takes it back."""
        of, key, before = claim.text or "", f"entered:{sample_id}", list[str]()
        unit = claim.unit if claim.value is not None else ""

        def do() -> None:
            kept = self._book.samples.entered(sample_id)
            before.append(json.dumps(kept))
            after = [item for item in kept if (item["kind"], item["of"]) != (claim.kind, of)]
            if value is not None:
                after.append({"kind": claim.kind, "of": of, "value": value, "limit": limit, "unit": unit})
            self._book.set_meta(key, json.dumps(after))

        words = f"enter {claim.definition.label.lower()}"
        return Edit(words, do, lambda: self._book.set_meta(key, before.pop()))

    def set_run(self, run: Run, words: str, **values: Any) -> Edit:
        """Change columns of a run (left_out, repair)."""
        before = {name: getattr(run, name) for name in values}
        change = self._book.runs.change
        return Edit(words, lambda: change(run.id, **values), lambda: change(run.id, **before))

    def keep_reading(self, run: Run, reading: HandReading, elapsed_s: float) -> Edit:
        """Keep a reading that was typed; the first one of a run is where it begins."""
        runs, kept = self._book.runs, list[int]()

        def do() -> None:
            with self._book.transaction():
                if elapsed_s == 0.0:
                    runs.change(run.id, started_utc=reading.at.astimezone(UTC).isoformat(timespec="milliseconds"))
                kept.append(
                    runs.add_hand(
                        run.id, elapsed_s, reading.voltage_V, reading.current_A, reading.counter_Ah, reading.note,
                        reading.temperature_C,
                    )
                )  # fmt: skip

        return Edit(f"keep the reading of {reading.at:%H:%M}", do, lambda: runs.remove_hand(run.id, kept.pop()))

    def set_school(self, school: School) -> Edit | None:
        """Judge by another decision rule from now on."""
        before = school_of(self._book)
        if school is before:
            return None
        return self._set(f"judge by the {RULE_NAMES[school]} rule", "school", school.value, before.value)

    def set_equipment(self, words: str, made: Equipment) -> Edit:
        """Change the bench."""
        from wintry_tally.bench.equipment import equipment_data

        return self._set(words, "bench", json.dumps(equipment_data(made)), self._book.meta("bench"))

    def set_attended(self, text: str) -> Edit:
        """Change the attended hours."""
        return self._set("change the attended hours", "attended", text, self._book.meta("attended"))

    def set_wishes(self, words: str, made: Wishes) -> Edit | None:
        """Change what is wished for the campaign."""
        from wintry_tally.app.wishes import WISHES

        before, after = self._book.meta(WISHES), json.dumps(made.data())
        return None if before == after else self._set(words, WISHES, after, before)

    def set_needs(self, words: str, made: list[str]) -> Edit:
        """Change what batteries are needed for."""
        return self._set(words, NEEDS, json.dumps(made), self._book.meta(NEEDS))

    def set_places(self, words: str, made: tuple[PlaceSpec, ...]) -> Edit | None:
        """Change which places there are, and what reads them.

        Raises:
            InputError: a name twice or missing, or read more often than makes sense.
        """
        from wintry_tally.app.places import KEY, places_text

        before, after = self._book.meta(KEY), places_text(made)
        return None if before == after else self._set(words, KEY, after, before)

    def read_place(self, place: str, at: datetime, temperature_C: float) -> Edit:
        """Keep a reading of a place, made by hand."""
        made: list[int] = []
        places = self._book.places
        return Edit(
            f"read the {place}",
            lambda: made.append(places.add(place, at, temperature_C)),
            lambda: places.remove(made.pop()),
        )

    def note_cycles(self, sample: Sample, at: datetime, cycles: float) -> Edit:
        """Note cycles that a battery had elsewhere since they were noted last.

        Raises:
            InputError: a count that cannot be.
        """
        from wintry_tally.app.following import CYCLES, Noted, noted_of, noted_text

        key = f"{CYCLES}:{sample.id}"
        after = noted_text([*noted_of(self._book, sample.id), Noted(at, cycles)])
        return self._set(f"note {cycles:g} cycles of {sample.code}", key, after, self._book.meta(key))

    def show_picture(self, number: int, name: str) -> Edit:
        """Show a picture that was put into the book (`app.pictures.put_in`)."""
        return self._picture(f"add the picture {name}", number, {"removed": False}, {"removed": True})

    def remove_picture(self, picture: Attachment) -> Edit:
        """Take a picture off its sample; undo shows it again."""
        return self._picture(f"remove the picture {picture.name}", picture.id, {"removed": True}, {"removed": False})

    def set_picture(self, picture: Attachment, words: str, **values: Any) -> Edit | None:
        """Change what is said of a picture: its kind, its caption, the run it belongs to."""
        before = {name: getattr(picture, name) for name in values}
        return None if before == values else self._picture(words, picture.id, values, before)

    def _picture(self, words: str, number: int, after: dict[str, Any], before: dict[str, Any]) -> Edit:
        change = self._book.attachments.change
        return Edit(words, lambda: change(number, **after), lambda: change(number, **before))

    def _set(self, words: str, key: str, after: str, before: str) -> Edit:
        put = self._book.set_meta
        return Edit(words, lambda: put(key, after), lambda: put(key, before))
