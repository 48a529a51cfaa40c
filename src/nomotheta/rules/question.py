"""What is asked about one table: who answers, over which rows, and how an answer becomes a finding."""

from __future__ import annotations

import contextlib
import datetime
import functools
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Protocol

from nomotheta.charter import Check, Compiled, Excuse
from nomotheta.conditions import Kind, Node, own, quoted
from nomotheta.errors import NomothetaError, PlaceError, counted, did_you_mean
from nomotheta.frozen import frozen
from nomotheta.layout import Layout
from nomotheta.place.base import Guarantees, Place
from nomotheta.place.render import Now
from nomotheta.rules.finding import Finding, Samples, message_of, samples_of, verdict_of
from nomotheta.rules.shape import compared_as, existing

if TYPE_CHECKING:
    from nomotheta.kinds.written import Written
    from nomotheta.place.valued import Valued
    from nomotheta.rules.anew import Anew

SAMPLES = 5
ROWS, BREAKS = own("rows"), own("breaks")  # what our statements call their results
_WIDEST = 8


@frozen
class Scope:
    """The rows that are judged: all of a table, or those that meet `where`; `label` names them."""

    label: str = "table"
    where: Node | None = None


class Keeper(Protocol):
    """Keeps all rows that break rules."""

    def take(self, question: Question, of: Check, asked: Place | Anew, where: str | None) -> None:
        """Keep the rows of the table that meet a condition in the SQL of who answers."""


@frozen
class Earlier:
    """What a rule measured of an earlier load, as it is kept."""

    load_no: int
    day: datetime.date
    measured: str


class Surroundings(Protocol):
    """What rules may look at beside their table."""

    def place(self, name: str) -> AbstractContextManager[Place]:
        """Another place of the workspace."""

    def charter(self, table: str, place: str) -> Compiled | None:
        """The charter of another table in a place, where it has one."""

    def past(self, table: str, rule: str, before: int | None, most: int) -> Sequence[Earlier]:
        """What a rule measured of the loads before one that are in a table, the oldest first."""

    def stale(self, table: str, place: str) -> str:
        """What is said of a list in a place whose file has changed since it was loaded; empty where none has."""


class Question:
    """A table, its charter, and the rows that are asked about.

    `asked` answers: the place, or the embedded engine over rows typed anew, where the place would mean something else.
    `ended` tells that an error has ended the transaction, so that nothing more can be asked.
    """

    def __init__(
        self, place: Place, compiled: Compiled, now: Now, scopes: tuple[Scope, Scope],
        set_aside: Mapping[str, int] | None, *, one_by_one: bool, around: Surroundings | None = None,
        keeper: Keeper | None = None,
    ) -> None:  # fmt: skip
        self.around, self.keeper = around, keeper
        self.engine: Any = None  # reckons with what is known already; opened when it is first needed
        self.one_by_one, self.ended = one_by_one, False
        self.place, self.compiled, self.now = place, compiled, now
        self.scope, self.load_scope = scopes
        self.charter, self.set_aside = compiled.charter, set_aside
        self.table, self.kinds = self.charter.table, self.charter.kinds()
        self.shape = {column.name: column for column in existing(place, self.table)}
        place.expect(self.table, self.kinds)
        self.private = self.charter.private()
        self.counts: dict[str, int] = {}
        self.wanted: dict[str, dict[str, str]] = {}
        self._known: dict[tuple[str, str], bool] = {}
        self.reads: Mapping[str, Written] = {}  # the columns of texts that the place itself reads as values
        self.values: Valued | None = None
        self.asked: Place | Anew = place
        odd = [name for name, kind in self.kinds.items() if name in self.shape and self.is_odd(name, kind)]
        if odd:
            self._read(odd)

    def _read(self, odd: Sequence[str]) -> None:
        """Have the texts of some columns read as values: by the place, or where it cannot, by the engine."""
        from nomotheta.place.valued import Valued  # only now: most tables are what they were declared to be
        from nomotheta.rules.anew import written_of

        written = written_of(self, odd)
        if written is not None and self.place.may_hold():
            values = Valued(self.place, self.table, written)
            with contextlib.suppress(PlaceError):  # where it can hold no temporary table
                if values.open():
                    self.place = self.asked = self.values = values
                    self.shape = {column.name: column for column in values.columns(self.table) or ()}
                    self.landed, self.reads = {}, written
                    return
        self.asked = self.anew()

    def close(self) -> None:
        """Nothing more is asked."""
        if self.values is not None:
            self.values.let_go()

    @functools.cached_property
    def guarantees(self) -> Guarantees:
        """What the database sees to in the table."""
        return self.place.guarantees(self.table)

    @functools.cached_property
    def landed(self) -> Mapping[str, Layout]:
        """The columns that hold the texts of files as they came, and how those are written."""
        if self.charter.stored == "typed":
            return {}
        layout = self.compiled.layout.of_texts
        forms = self.charter.cell_forms(layout)
        held = {name: self.shape[name].kind for name in self.charter.file_columns() if name in self.shape}
        return {name: layout.of(forms.get(name)) for name, kind in held.items() if kind and kind.name == "text"}

    def is_odd(self, name: str, kind: Kind) -> bool:
        """Whether the place would compare the values of a column otherwise than as the declared kind."""
        column = self.shape[name]
        written = self.landed.get(name)
        if written is not None and (written.trim or any(written.null_words)):
            return True
        landed = not column.sure and column.kind is not None and column.kind.name == "text" != kind.name
        return landed or not compared_as(column, kind)

    def anew(self) -> Anew:
        """The engine over the table's rows, typed anew."""
        from nomotheta.rules.anew import Anew, columns_of  # only now: most tables are what they were declared to be

        return Anew(self.place, {self.table: columns_of(self)})

    def declared(self, check: Check, name: str = "") -> Kind:
        """The kind of a column that a check speaks of."""
        return self.kinds[name or check.columns[0]]

    def is_enforced(self, check: Check) -> bool:
        """Whether rows that break it were set aside while they were loaded."""
        return self.set_aside is not None and check.otherwise == "reject" and not self.excuses(check)

    def excuses(self, check: Check) -> list[Excuse]:
        """The excuses of a check that count today."""
        return [excuse for excuse in check.excuses if excuse.holds(self.now.moment.date())]

    def excused(self, check: Check, by: Place | Anew | None = None) -> str | None:
        """1 for a row that is excused by one of them, else 0, in SQL; None where none is for single rows."""
        nodes = [excuse.node for excuse in self.excuses(check) if excuse.node is not None]
        if not nodes:
            return None
        asked = by or self.asked
        return f"CASE WHEN {' OR '.join(asked.render(node, self.now) for node in nodes)} THEN 1 ELSE 0 END"

    # ---- which rows, and who answers

    def doubts(self, check: Check) -> Sequence[str] | None:
        """The columns that have to hold letters beyond ASCII for a check to come to something else in the place.

        None where it never does, none of them where it may whatever they hold.
        """
        if self.asked is not self.place:
            return None
        nodes = [check.node, *(excuse.node for excuse in check.excuses), *(node for _, node in check.parts)]
        found = [self.place.differs(node) for node in nodes if node is not None]
        told = [columns for columns in found if columns is not None]
        return sorted({name for columns in told for name in columns}) * all(told) if told else None

    def differs(self, check: Check) -> bool:
        """Whether a condition may come to something else in the place than while rows are loaded."""
        columns = self.doubts(check)
        if not columns:
            return columns is not None
        scope = self.scope_of(check)
        for name in columns:
            self.want(scope, f"letters in {name}", self.beyond_ascii(name))
        return any(self.is_so(scope, f"letters in {name}", self.beyond_ascii(name)) for name in columns)

    def beyond_ascii(self, column: str) -> str:
        """The condition that a text of a column holds letters beyond ASCII."""
        prints = self.place.fingerprint
        return f"{prints.octets(quoted(column))} <> {prints.characters(quoted(column))}"

    # ---- what has to be known of some rows, asked for together with what is asked of them anyway

    def want(self, scope: Scope, fact: str, condition: str) -> None:
        """Ask, with the next scan of some rows, whether any of them meets a condition in the place's own SQL."""
        if (scope.label, fact) not in self._known:
            self.wanted.setdefault(scope.label, {})[fact] = condition

    def learn(self, scope: Scope, counts: Mapping[str, Any]) -> None:
        """How many rows met the conditions of facts."""
        for fact, count in counts.items():
            self._known[scope.label, fact] = bool(count)
            self.wanted.get(scope.label, {}).pop(fact, None)

    def is_so(self, scope: Scope, fact: str, condition: str) -> bool:
        """Whether any of some rows meets a condition; asked with all that is wanted of them, if it is not known."""
        self.want(scope, fact, condition)
        asked = dict(self.wanted.get(scope.label, {}))
        if asked:
            counts = [f"count(CASE WHEN {sql} THEN 1 END) AS {quoted(own(fact))}" for fact, sql in asked.items()]
            rowset = self.place.rowset(self.table, self.where(scope, by=self.place))
            row = self.place.answer(f"SELECT {', '.join(counts)} {rowset}").rows[0]
            self.learn(scope, dict(zip(asked, row, strict=True)))
        return self._known[scope.label, fact]

    @contextlib.contextmanager
    def read_by_us(self) -> Iterator[None]:
        """Conditions that would come to something else in the place: its rows are streamed into the embedded engine."""
        self.asked = self.anew()
        try:
            yield
        finally:
            self.asked = self.place

    def scope_of(self, check: Check) -> Scope:
        """The rows that a check looks at."""
        if check.over == "table" or (check.sort == "offenders" and check.over is None):
            return Scope()
        return self.load_scope if check.over == "load" else self.scope

    def where(self, scope: Scope, *more: str, by: Place | Anew | None = None) -> str | None:
        """Those rows as a condition in SQL, with further ones; None for all."""
        parts = [(by or self.asked).render(scope.where, self.now)] if scope.where else []
        return " AND ".join([*parts, *more]) or None

    def count(self, scope: Scope) -> int:
        """How many they are, asked for once."""
        if scope.label not in self.counts:
            where = self.where(scope, by=self.place)
            self.counts[scope.label] = self.place.count(self.table, where)
        return self.counts[scope.label]

    # ---- findings

    def made(self, check: Check, **more: Any) -> Finding:
        """A finding of a check."""
        base: dict[str, Any] = {
            "rule": check.name, "sort": check.sort, "columns": check.columns, "because": check.because,
            "otherwise": check.otherwise, "tolerate": str(check.tolerate), "over": self.scope_of(check).label,
            "owners": check.owners, "embedded": self.asked is not self.place or not self.place.native,
        }  # fmt: skip
        if self.values is not None and self.asked is self.place and more.get("sql"):
            more["sql"] = self.values.told(more["sql"])
        return Finding(**(base | more))

    def enforced(self, check: Check) -> Finding:
        """That of a check whose rows were set aside."""
        count = (self.set_aside or {}).get(check.name, 0)
        message = f"{counted(count, 'row')} set aside at loading" if count else ""
        list_of = check.listed_in[0] if check.listed_in else ""
        stale = self.around.stale(list_of, check.place or self.place.name) if self.around and list_of else ""
        told = "; ".join(filter(None, [message, stale]))
        return self.made(check, verdict="warn" if stale else "pass", breaks=0, set_aside=count, message=told)

    def absent(self, check: Check, names: Sequence[str]) -> Finding:
        """That of a check of columns that the table does not have."""
        hint = did_you_mean(names[0], self.shape)
        message = f"the table has no column '{names[0]}'" + (f"; {hint}" if hint else "")
        return self.made(check, verdict="error", message=message)

    def counted_finding(
        self, check: Check, breaks: int, rows: int, sql: str, samples: Callable[[], Samples]
    ) -> Finding:
        """That of so many rows that break it, with samples where any do."""
        return self.made(
            check, verdict=verdict_of(check, breaks, rows), breaks=breaks, rows=rows, sql=sql,
            message=message_of(check, breaks, rows), samples=samples() if breaks else Samples((), ()),
        )  # fmt: skip

    def guarded(self, check: Check, work: Callable[[], Finding]) -> Finding:
        """What comes of a check, an error included."""
        if self.ended:
            return self.made(check, verdict="error", message="not judged: an error before it had ended the transaction")
        try:
            return work()
        except NomothetaError as error:
            told = error.what
        except Exception as error:
            told = f"it could not be judged: {error or type(error).__name__}".split("\n")[0]
        self.ended = self.one_by_one
        return self.made(check, verdict="error", message=told)

    def keep(self, check: Check, where: str | None, by: Place | Anew | None = None) -> None:
        """Have all rows kept that break a check, where that is wished."""
        if self.keeper is not None:
            self.keeper.take(self, check, by or self.asked, where)

    def sampled(self, columns: Sequence[str], where: str | None, by: Place | Anew | None = None) -> Samples:
        """Rows that broke a rule, by their key and the columns that the rule speaks of."""
        asked = by or self.asked
        key = next((key.columns for key in self.charter.real_keys()), list(self.shape)[:_WIDEST])
        chosen = [name for name in dict.fromkeys([*key, *columns]) if name in self.shape]
        rows = f"{asked.rowset(self.table, where)} LIMIT {SAMPLES}"
        try:
            found = asked.answer(f"SELECT {', '.join(map(quoted, chosen))} {rows}")
        except PlaceError:  # its driver has no value for what is there
            if asked is not self.place:
                raise
            texts = ", ".join(f"{self.place.as_text(name)} AS {quoted(name)}" for name in chosen)
            found = asked.answer(f"SELECT {texts} {rows}")
        return samples_of(found, self.private)
