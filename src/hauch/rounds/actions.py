"""What a host can do with a round: begin it, write its brief, agree its rules, open it, answer
questions.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Max
from django.utils import timezone
from django.utils.text import slugify

from hauch.core.geometry.envelope import Envelope
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import HOST, require
from hauch.rounds.checks import problems_of, problems_of_rules
from hauch.rounds.conditions import conditions_of
from hauch.rounds.drafts import COUNTED, RuleDraft, TestDraft, changes_in_words, draft_of
from hauch.rounds.models import (
    BRIEF_FIELDS,
    Membership,
    Round,
    RuleQuestion,
    RuleTerm,
    RuleVersion,
    Setting,
    Test,
    TestReference,
)
from hauch.rounds.queries import current_rules
from hauch.rounds.signals import gate_wanted, rules_changed, tests_replaced
from hauch.rounds.starts import Start
from hauch.stores.models import Rig

NEW_KEY = 40


def free_slug(title: str) -> str:
    """An address that no round has yet."""
    wanted = slugify(title)[:50] or "round"
    slug, number = wanted, 2
    while Round.objects.filter(slug=slug).exists():
        slug, number = f"{wanted}-{number}", number + 1
    return slug


@transaction.atomic
def begin_round(
    user: User, start: Start, title: str, place: str = "", rigs: Mapping[str, Rig] | None = None
) -> tuple[Round, list[str]]:
    """Begin a round from a usual one; whoever begins it is its host.

    Parameters
    ----------
    rigs : by kind, those to measure on; else the first of each kind in the stores

    Returns
    -------
    the round, and the tests that were left out since there is no rig for them

    Raises
    ------
    PermissionDenied, ValidationError : no title
    """
    require(user, "round.create")
    if not title.strip():
        raise ValidationError({"title": "Give the round a title."})
    highest = Round.objects.aggregate(top=Max("number"))["top"] or 0
    round = Round(
        slug=free_slug(title),
        number=highest + 1,
        title=title.strip(),
        place=place.strip(),
        question=start.question,
        part=start.part,
        may_vary=start.may_vary,
        safety=start.safety,
        **start.fields,
    )
    round.full_clean()
    round.save()
    Membership.objects.create(round=round, user=user, role=HOST)
    setting = Setting.objects.create(
        round=round,
        label=(
            "Full throttle"
            if round.equal == Round.Equal.THROTTLE
            else round.get_equal_display().capitalize()
        ),
    )
    rules = RuleVersion.objects.create(
        round=round,
        number=1,
        scheme=start.scheme,
        level_as=start.level_as,
        created_by=user,
        reason="First rules.",
    )
    left_out = []
    for order, wanted in enumerate(start.tests, start=1):
        draft = TestDraft(None, wanted.procedure, wanted.label, None)
        rig = (
            Rig.objects.current().filter(kind=draft.how.rig).order_by("name").first()
            if rigs is None
            else rigs.get(draft.how.rig)
        )
        if rig is None:
            left_out.append(wanted.label)
            continue
        test = Test.objects.create(
            round=round,
            key=wanted.key,
            label=wanted.label,
            procedure=wanted.procedure,
            rig=rig,
            setting=(
                Setting.objects.get_or_create(round=round, label=wanted.setting)[0]
                if wanted.setting
                else setting
            ),
            order=order,
            **wanted.options,
        )
        rules.tests.add(test)
        if wanted.weight is not None or wanted.most_loss is not None:
            RuleTerm.objects.create(
                rules=rules, test=test, weight=wanted.weight, most_loss=wanted.most_loss
            )
    remember_brief(round, rules)
    record(user, "round.begin", round, round, start=start.key)
    return round, left_out


def remember_brief(round: Round, rules: RuleVersion) -> None:
    """Keep with a version of the rules what the brief says, and of its tests what may change
    without a successor.
    """
    tests = {
        test.key: {name: getattr(test, name) for name in COUNTED} for test in rules.tests.all()
    }
    rules.brief = {name: getattr(round, name) for name in BRIEF_FIELDS} | {"tests": tests}
    rules.save(update_fields=["brief"])


def _next_version(user: User, round: Round, reason: str, rules: RuleVersion) -> RuleVersion:
    """The next version, with neither tests, terms nor brief yet."""
    if not reason.strip():
        raise ValidationError(
            {"reason": "Say why the rules change. The reason stays with the new version."}
        )
    return RuleVersion.objects.create(
        round=round,
        number=rules.number + 1,
        scheme=rules.scheme,
        tie_rule=rules.tie_rule,
        level_as=rules.level_as,
        draws=rules.draws,
        seed=rules.seed,
        reason=reason.strip(),
        created_by=user,
    )


@transaction.atomic
def save_brief(
    user: User, round: Round, changed: Sequence[str], reason: str = ""
) -> RuleVersion | None:
    """Save what the form changed on the round. Once it is open, a change of what entrants must keep
    to is a new version of the rules.

    Raises
    ------
    PermissionDenied, ValidationError : impossible figures, or no reason for a change after opening
    """
    require(user, "round.change", round)
    round.full_clean(exclude=["slug"])
    old = Round.objects.get(pk=round.pk)
    rules = current_rules(round)
    binding = [name for name in changed if name in BRIEF_FIELDS]
    round.save()
    if old.straight_to_the_bench and not round.straight_to_the_bench:
        gate_wanted.send(Round, user=user, round=round)
    record(
        user,
        "round.change",
        round,
        round,
        changed="; ".join(_brief_in_words(old, round, changed)),
        reason=reason,
    )
    if rules is None or not binding:
        return rules
    if round.is_draft:
        remember_brief(round, rules)
        return rules
    new = _next_version(user, round, reason, rules)
    new.tests.set(rules.tests.all())
    RuleTerm.objects.bulk_create(
        RuleTerm(rules=new, test_id=t.test_id, weight=t.weight, most_loss=t.most_loss)
        for t in rules.terms.all()
    )
    remember_brief(round, new)
    rules_changed.send(Round, round=round)
    return new


def _brief_in_words(old: Round, new: Round, changed: Sequence[str]) -> list[str]:
    """What of a brief changed: what, old and new value."""
    found = []
    for name in changed:
        words = BRIEF_FIELDS.get(name) or name.replace("_", " ")
        if name == "envelope":
            found.append(words)
            continue
        shown = f"get_{name}_display" if hasattr(new, f"get_{name}_display") else name
        was, now = (getattr(one, shown) for one in (old, new))
        was, now = (one() if callable(one) else one for one in (was, now))
        found.append(f"{words}: {was or 'none'} → {now or 'none'}")
    return found


@transaction.atomic
def save_envelope(
    user: User, round: Round, envelope: Envelope, reason: str = ""
) -> RuleVersion | None:
    """Save the envelope.

    Raises
    ------
    PermissionDenied, ValidationError : dimensions that cannot be, each with its sentence
    """
    if problems := envelope.problems():
        raise ValidationError({name: [text] for name, text in problems.items()})
    round.envelope = envelope.as_json()
    return save_brief(user, round, ["envelope"], reason)


@transaction.atomic
def open_round(user: User, round: Round) -> Round:
    """Open a round for entries. From then on every change of its rules is a new version.

    Raises
    ------
    PermissionDenied, ValidationError : what is still missing, in sentences
    """
    require(user, "round.change", round)
    round = Round.objects.select_for_update().get(pk=round.pk)
    if not round.is_draft:
        raise ValidationError("The round is open already.")
    if problems := problems_of(round):
        raise ValidationError([problem.text for problem in problems])
    round.state = Round.State.OPEN
    round.save(update_fields=["state"])
    record(user, "round.open", round, round)
    return round


@transaction.atomic
def archive_round(user: User, round: Round, archived: bool) -> Round:
    """Put a round away, or take it up again; everything in it stays as it is."""
    require(user, "round.change", round)
    round.archived = archived
    round.save(update_fields=["archived"])
    record(user, "round.archive" if archived else "round.take_up", round, round)
    return round


@transaction.atomic
def start_bench(user: User, round: Round) -> Round:
    """Close the round for entries and go to the bench."""
    require(user, "round.change", round)
    round = Round.objects.select_for_update().get(pk=round.pk)
    if round.state != Round.State.OPEN:
        raise ValidationError("Only a round that is open for entries goes to the bench.")
    round.state = Round.State.BENCH
    round.save(update_fields=["state"])
    record(user, "round.bench", round, round)
    return round


@transaction.atomic
def change_rules(user: User, round: Round, draft: RuleDraft, runs: dict[int, int]) -> RuleVersion:
    """Make a draft the rules: in place while the brief is written, as the next version after that.

    Parameters
    ----------
    runs : runs so far by test

    Raises
    ------
    PermissionDenied, ValidationError : rules that cannot rank or be measured, each with its
        sentence; nothing is saved then
    """
    require(user, "rules.change", round)
    if problems := problems_of_rules(round, draft, round.equal_agreed):
        raise ValidationError([problem.text for problem in problems])
    before = current_rules(round)
    changed = changes_in_words(draft_of(round, before) if before else None, draft)
    round = Round.objects.select_for_update().get(pk=round.pk)
    in_place = round.is_draft and before is not None and not runs
    if before is None:
        rules = RuleVersion.objects.create(
            round=round, number=1, created_by=user, reason=draft.reason or "First rules."
        )
    elif in_place:
        rules = before
        rules.terms.all().delete()
    else:
        rules = _next_version(user, round, draft.reason, before)
    rules.scheme, rules.tie_rule, rules.level_as = draft.scheme, draft.tie_rule, draft.level_as
    rules.save()
    pairs, tests = [], []
    for wanted in draft.tests:
        test = _make_test(round, wanted, runs, in_place=in_place)
        if (
            wanted.test is not None
            and test is not None
            and test.pk != wanted.test.pk
            and wanted.kind == "converted"
        ):
            pairs.append((wanted.test, test))
        if test is None:
            continue
        tests.append(test)
        if wanted.weight is not None or wanted.most_loss is not None:
            RuleTerm.objects.create(
                rules=rules, test=test, weight=wanted.weight, most_loss=wanted.most_loss
            )
    rules.tests.set(tests)
    remember_brief(round, rules)
    record(
        user,
        "rules.change",
        rules,
        round,
        changed="; ".join(changed) or "first rules",
        reason=rules.reason,
    )
    if pairs:
        tests_replaced.send(Round, user=user, pairs=pairs)
    rules_changed.send(Round, round=round)
    return rules


def _make_test(
    round: Round, wanted: TestDraft, runs: dict[int, int], *, in_place: bool
) -> Test | None:
    """The test as it is wanted, None where it is dropped. What is measured or converted otherwise
    changes in place only while the brief is a draft; after that it is a successor, so that older
    versions keep the test that they named.
    """
    has_runs = wanted.test is not None and bool(runs.get(wanted.test.pk))
    if wanted.dropped:
        if wanted.test is not None:
            _drop(wanted.test, has_runs)
        return None
    if wanted.test is None or (not in_place and wanted.kind in {"again", "converted"}):
        return _new_test(round, wanted)
    for name, value in wanted.values().items():
        setattr(wanted.test, name, value)
    wanted.test.full_clean(exclude=["round", "setting", "rig", "replaces"])
    wanted.test.save()
    return wanted.test


def _drop(test: Test, has_runs: bool) -> None:
    test.dropped = True
    test.save(update_fields=["dropped"])
    if not has_runs and not test.in_rules.exists():
        test.delete()


def _new_test(round: Round, wanted: TestDraft) -> Test:
    old = wanted.test
    stem = (
        old.key.rstrip("0123456789").rstrip("-") if old else slugify(wanted.label)[: NEW_KEY - 4]
    ) or "test"
    key, number = stem, 2
    while round.tests.filter(key=key).exists():
        key, number = f"{stem}-{number}", number + 1
    setting = (
        old.setting
        if old
        else (round.settings.first() or Setting.objects.create(round=round, label="Full throttle"))
    )
    test = Test(
        round=round,
        key=key,
        setting=setting,
        replaces=old,
        **wanted.values(),
    )
    test.full_clean(exclude=["replaces"])
    test.save()
    model = (
        old
        or round.tests.current()
        .exclude(pk=test.pk)
        .filter(references__isnull=False, references__until__isnull=True)
        .first()
    )
    if model is not None:
        TestReference.objects.bulk_create(
            TestReference(
                test=test,
                specimen_id=r.specimen_id,
                since=r.since,
                until=r.until,
                bridging=r.bridging,
            )
            for r in (
                model.references.all() if old else model.references.filter(until__isnull=True)
            )
        )
    return test


@transaction.atomic
def add_setting(user: User, round: Round, label: str) -> Setting:
    """A setting of the round by its label, made where there is none of it; what it says with = is kept
    as fields.

    Raises
    ------
    PermissionDenied, ValidationError : no label
    """
    require(user, "run.record", round)
    label, fields = conditions_of(label)
    found = Setting.objects.filter(round=round, label__iexact=label).first()
    if found is None:
        found = Setting.objects.create(round=round, label=label, values=fields)
        record(user, "round.setting", found, round)
    return found


@transaction.atomic
def ask(user: User, rules: RuleVersion, kind: str, text: str) -> RuleQuestion:
    """Ask about a version of the rules, or object to it.

    Raises
    ------
    PermissionDenied, ValidationError : nothing asked
    """
    require(user, "rules.ask", rules.round)
    if not text.strip():
        raise ValidationError({"text": "Write what you ask, or what you object to and why."})
    question = RuleQuestion(rules=rules, kind=kind, text=text.strip(), asked_by=user)
    question.full_clean()
    question.save()
    record(user, "rules.ask", question, rules.round, kind=kind)
    return question


@transaction.atomic
def answer(user: User, question: RuleQuestion, text: str) -> RuleQuestion:
    """Answer a question; it is answered once."""
    require(user, "rules.answer", question.rules.round)
    question = (
        RuleQuestion.objects.select_for_update().select_related("rules__round").get(pk=question.pk)
    )
    if question.answered_at is not None:
        raise ValidationError("This question is answered already; the answer stays with the rules.")
    if not text.strip():
        raise ValidationError({"text": "Write the answer."})
    question.answer, question.answered_by, question.answered_at = (
        text.strip()[:4000],
        user,
        timezone.now(),
    )
    question.save(update_fields=["answer", "answered_by", "answered_at"])
    record(user, "rules.answer", question, question.rules.round)
    return question


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    """What of the brief differs between two versions, in words; nothing where a version kept no
    brief.
    """
    if not before or not after:
        return []
    return [
        words
        for name, words in BRIEF_FIELDS.items()
        if name in before and name in after and before[name] != after[name]
    ]
