"""The views, one a station; each is made when first shown."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wintry_tally.desk.session import Session
    from wintry_tally.desk.views.station import StationView


def make_view(key: str, session: Session) -> StationView:
    """The view of a station. A new station is a new file and a line here."""
    if key == "arrival":
        from wintry_tally.desk.views.arrival import ArrivalView

        return ArrivalView(session)
    if key == "capacity":
        from wintry_tally.desk.views.capacity import CapacityView

        return CapacityView(session)
    if key == "ledger":
        from wintry_tally.desk.views.ledger import LedgerView

        return LedgerView(session)
    from wintry_tally.desk.views.report import ReportView

    return ReportView(session)
