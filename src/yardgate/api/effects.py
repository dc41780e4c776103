"""What a change does, as it is told."""

from yardgate.api.answers import changed
from yardgate.api.schemas import EffectOut, HostShiftOut, MadeOut, OffCell
from yardgate.core.access.comparison import Off
from yardgate.core.access.outcome import shifted
from yardgate.core.acl.rights import Level
from yardgate.core.edits.describe import promised, sentence
from yardgate.core.model.agreements import Promise
from yardgate.core.model.plan import Plan
from yardgate.core.policy.impact import Effect

LISTED = 200


def told(before: Plan, found: Effect) -> EffectOut:
    after = found.after.outcome.matrix.plan

    def said(promises: tuple[Promise, ...]) -> list[str]:
        return [promised(after, promise) for promise in promises]

    def off(cells: tuple[Off, ...]) -> list[OffCell]:
        return [
            OffCell(subject=one.subject, place=one.place, granted=one.granted, gets=one.gets) for one in cells[:LISTED]
        ]

    return EffectOut(
        along=[sentence(before, after, edit) for edit in found.along[:LISTED]],
        **dict(changed(shifted(found.before.outcome, found.after.outcome, LISTED, gone=True))),
        more=off(found.price.gives),
        less=off(found.price.takes),
        hosts=[
            HostShiftOut(
                share=(after.shares.get(one.share) or before.shares[one.share]).name,
                hosts=one.hosts,
                before=one.before,
                after=one.after,
                people=one.people,
                costs=one.costs,
            )
            for one in found.price.hosts[:LISTED]
        ],
        made=[MadeOut(place=place, rw=levels[Level.RW], ro=levels[Level.RO]) for place, levels in found.made][:LISTED],
        free=found.price.nothing,
        breaks=said(found.breaks),
        mends=said(found.mends),
    )
