"""What hangs on an answer that nobody has given yet: a cell that would come out otherwise, if the appliance did something else."""

from dataclasses import dataclass, replace
from datetime import date

from yardgate.core.access.paths import explain_over
from yardgate.core.access.spec.explain import explain
from yardgate.core.acl.rights import Level
from yardgate.core.model.behaviour import ApplianceQuestion, Choice, open_questions
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Over


@dataclass(frozen=True, slots=True, kw_only=True)
class Assumption:
    """Of the appliance nobody knows what happens in the question's case; if it is the choice, the cell comes to `level` instead."""

    question: ApplianceQuestion
    choice: Choice
    level: Level


def assumptions(
    plan: Plan, subject: str, place: str, way: Over | None, on: date, level: Level
) -> tuple[Assumption, ...]:
    """For somebody in a place who gets `level`, over a way in or by grants and storage alone: each open answer under which they would get another."""
    found = []
    for question in open_questions(plan):
        for choice in question.choices:
            if choice.holds(plan.target):
                continue
            other = replace(plan, target=choice.on(plan.target))
            if way is None:
                then = explain(other, subject, place, on).level
            else:
                then = explain_over(other, subject, place, way, on).level
            if then != level:
                found.append(Assumption(question=question, choice=choice, level=then))
    return tuple(found)
