"""What a workspace tells, shows and keeps of what happened."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.errors import DeclarationError, GoneError, NomothetaError
from nomotheta.workspace.context import REPORTS, moment

if TYPE_CHECKING:
    from nomotheta.ledger import DocketEntry, DocketPage, LoadResult, OutgoingPage, RunResult
    from nomotheta.ledger.pruning import Pruned
    from nomotheta.workspace.evidence import Evidence


from nomotheta.workspace.opened import Opened

_ROWS_OF_A_KILOBYTE = 40  # at most, of rows that were set aside


class Reports(Opened):
    """What a workspace tells, shows and keeps of what happened."""

    # ---- the docket

    def docket(
        self, entry_no: int | None = None, *, table: str | None = None, owner: str | None = None, closed: bool = False
    ) -> DocketPage:  # fmt: skip
        """What fails: of all, of a table, of an owner; or one entry, open or not, and what happened to it.

        Raises:
            DeclarationError: there is no such entry.
        """
        from nomotheta.workspace.docketing import page_of

        return page_of(self.context, entry_no, table, owner, closed=closed)

    def take_entry(self, entry_no: int, by: str | None = None, note: str = "") -> DocketEntry:
        """Take an open entry of the docket on; by default, whoever runs the program does.

        Raises:
            DeclarationError: there is no such entry, or it is closed.
        """
        from nomotheta.workspace.attempts import whoever

        return self.ledger.docket.take(entry_no, by or whoever(), note, moment())

    def excuse_entry(self, entry_no: int, until: datetime.date, reason: str, by: str | None = None) -> DocketEntry:
        """Nobody is told of an open entry up to a day. It still fails.

        Raises:
            DeclarationError: there is no such entry, it is closed, or the day is over.
        """
        from nomotheta.workspace.attempts import whoever

        if until < self.today():
            raise DeclarationError(f"{until} is over", where="--until", mend="name today or a later day")
        return self.ledger.docket.excuse(entry_no, until, reason, by or whoever(), moment())

    @staticmethod
    def write_docket(page: DocketPage, file: Path) -> int:
        """Write entries as CSV, or as Parquet by the file's name; how many.

        Raises:
            DeclarationError: the file cannot be written.
        """
        from nomotheta.report.rows import write_table

        return write_table(page.to_arrow(), file)

    # ---- tell

    def tell(self, result: RunResult | LoadResult | None = None) -> list[NomothetaError]:
        """Tell those who want to hear of a result, or of what else has changed, and send what could not be sent before.

        Returns:
            What could not be sent, which stays in the outbox for the next time.
        """
        from nomotheta.ledger import RunResult
        from nomotheta.workspace.telling import tell

        if isinstance(result, RunResult) and result.run_id in self.led_elsewhere:
            return []
        now = moment()
        nothing = RunResult(0, self.settings.name, now.astimezone(self.zone).date(), now, 0.0, "pass", ())
        return tell(
            self.settings, self.ledger, self.root, self.zone, self.context.identity, result or nothing, self._rejects
        )

    def _rejects(self, load_no: int, kilobytes: int) -> str | None:
        """The rows that a load set aside, as they may be shown, as CSV; None where that is longer."""
        from nomotheta.workspace.aside import as_csv

        try:
            text = as_csv(self.context, load_no, kilobytes * _ROWS_OF_A_KILOBYTE)
        except GoneError:
            return None
        return text if len(text.encode("utf-8", "replace")) <= kilobytes * 1000 else None

    def outgoing(self, *, rehearse: bool = False) -> OutgoingPage:
        """What waits to be told; or, as a rehearsal, what the newest run would tell whom, and why."""
        from nomotheta.ledger import RunResult
        from nomotheta.workspace.telling import outgoing

        nothing = RunResult(0, self.settings.name, self.today(), moment(), 0.0, "pass", ())
        result = self.ledger.run() if rehearse else None
        return outgoing(self.settings, self.ledger, self.zone, result or nothing, rehearse=rehearse)

    def tell_test(self, name: str) -> list[NomothetaError]:
        """Send a test message by an entry; what went wrong in that.

        Raises:
            DeclarationError: there is no such entry.
        """
        from nomotheta.workspace.outgoing import send_test

        return send_test(self.settings, self.ledger, self.root, self.zone, self.context.identity, name)

    def evidence(
        self, first: datetime.date, last: datetime.date, file: Path, *, table: str | None = None
    ) -> Evidence:  # fmt: skip
        """Pack what an auditor asks for about the deliveries of some days, as a BagIt bag in a zip file.

        Raises:
            DeclarationError: nothing is known of these days, or the file cannot be written.
        """
        from nomotheta.workspace.evidence import pack

        return pack(self.context, first, last, table, file)

    def prune(self, before: datetime.date, *, rehearse: bool = False) -> Pruned:
        """Remove from the ledger what began before a day and is not needed for what is in the tables.

        Raises:
            DeclarationError: the day is yet to come.
            NomothetaError: the ledger is not as it was written; nothing is removed.
        """
        from nomotheta.workspace.pruning import prune_ledger

        return prune_ledger(self.context, before, rehearse=rehearse)

    def kept_load(self, load_no: int) -> tuple[LoadResult, datetime.datetime, str]:
        """A load as the ledger keeps it, when it began, and the charter that was carried out, as TOML.

        Raises:
            DeclarationError: there is no such load.
        """
        load, began = self.ledger.load(load_no), self.ledger.began(load_no)
        if load is None or began is None:
            raise DeclarationError(f"there is no load {load_no} in the ledger", mend="see: nomotheta ledger")
        charter = self.ledger.charter(load.charter)
        return load, began, charter[0] if charter else ""

    # ---- report

    def report(
        self, run_id: int | None = None, file: Path | None = None, *, load_no: int | None = None,
        judged: str | None = None,
    ) -> tuple[RunResult, Path]:  # fmt: skip
        """Write the page of a run, or of the newest one; or that of a load, or of the newest judgement of a table.

        Raises:
            DeclarationError: no such run, load or judgement is in the ledger, or the page cannot be written.
        """
        from nomotheta.report.page import page
        from nomotheta.report.write import write_file
        from nomotheta.workspace.reporting import page_of

        result, name = page_of(self.context, run_id, load_no, judged)
        path = file or self.root / REPORTS / f"{name}.html"
        try:
            write_file(path, page(result, moment().astimezone(self.zone)))
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(path)) from None
        return result, path

    def write_site(self, run: RunResult | None = None, entry: DocketEntry | None = None) -> Path:
        """Write the linked pages of the workspace into `reports/`; the index's path.

        After a run, or a change of an entry of the docket, those that it changes are, where there are such pages or
        `[report] base_url` says that there are.

        Raises:
            DeclarationError: they cannot be written.
        """
        from nomotheta.workspace.beside import has_pages
        from nomotheta.workspace.site import write_site

        folder = self.root / REPORTS
        partly = run is not None or entry is not None
        if partly and not has_pages(self.context):
            return folder / "index.html"
        try:
            return write_site(self.context, folder, run, entry)
        except OSError as error:
            raise DeclarationError(f"the pages cannot be written: {error.strerror}", where=str(folder)) from None

    def write_as(self, form: str, run_id: int | None = None, file: Path | None = None) -> tuple[RunResult, Path]:
        """Write a run, or the newest, for other programs: as one of `report.outputs.OUTPUTS`.

        Raises:
            DeclarationError: there is no such form or run, or the file cannot be written.
        """
        from nomotheta.report.outputs import Shown, output
        from nomotheta.workspace.aside import set_aside
        from nomotheta.workspace.reporting import page_of

        write, ending = output(form)
        result, name = page_of(self.context, run_id, None, None)
        entries, passed = self.ledger.docket.entries(), self.ledger.history.last_success_at()
        path = file or self.root / REPORTS / f"{name}-{form}{ending}"
        try:
            write(Shown(result, entries, passed, lambda load_no: set_aside(self.context, load_no, None).visible), path)
        except OSError as error:
            raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(path)) from None
        return result, path

    def keep_pages(self, run: RunResult | None = None, entry: DocketEntry | None = None) -> list[NomothetaError]:
        """Write the pages that a run, or an entry of the docket, changes, if there are any; what went wrong in that."""
        try:
            self.write_site(run, entry)
        except NomothetaError as error:
            return [error]
        return []
