"""What `nomotheta.toml` may declare: places, layouts, who is told."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from nomotheta.charter.layout import Declared, DeclaredLayout


class Place(Declared):
    """A database or a lake, by its URL; secrets are in it as ${ENV_NAME}.

    `options` say how a lake in an object store is reached, in the words of the store's own access. An `engine` carries
    out loads into a lake.
    """

    url: str
    options: dict[str, str] = Field(default={})
    engine: str | None = None

    @property
    def is_lake(self) -> bool:
        """Whether its tables are files that an engine can write too."""
        return re.match(r"(delta|s3|gs|az|abfss)://", self.url) is not None

    @field_validator("url")
    @classmethod
    def _no_secret(cls, value: str) -> str:
        written = re.search(r"://[^:/@]*:([^@]*)@|[?&][a-z]*password=([^&]*)", value)
        if written and not re.fullmatch(r"(\$\{\w+\})?", written[1] or written[2] or "", re.ASCII):
            raise ValueError("the url contains a password; keep it in the environment, and write ${ENV_NAME} for it")
        return value


_PORTS = 65_535


_TIME = r"^([01][0-9]|2[0-3]):[0-5][0-9]$"
_HOURS = r"^([01][0-9]|2[0-3]):[0-5][0-9]-([01][0-9]|2[0-3]):[0-5][0-9]$"


class Tell(Declared):
    """Who is told of failing loads, and by which way: a mail server, a webhook, a command, a system log, a folder.

    With `when = "change"` a failure is told when it is new, comes back, grows worse, is taken, or is over; with
    `always`, every night. `tables` (names, or patterns with `*`) and `owners` narrow what is told. What comes up in
    the `quiet` hours waits for their end; `at_most` so many go out in an hour; with `digest`, all of a day go out as
    one at that time. `secret` signs what goes to a webhook. Rows that were set aside are attached to mails as CSV where
    that has at most `attach` kilobytes.
    """

    url: str
    sender: Annotated[str, Field(alias="from")] = ""
    to: list[str] = Field(default=[])
    on: list[Literal["fail", "warn", "pass"]] = Field(default=["fail"])
    when: Literal["change", "always"] = "change"
    tables: list[str] = Field(default=[])
    owners: list[str] = Field(default=[])
    secret: str | None = None
    quiet: Annotated[str | None, Field(pattern=_HOURS)] = None
    at_most: Annotated[int | None, Field(ge=1)] = None
    digest: Annotated[str | None, Field(pattern=_TIME)] = None
    attach: Annotated[int, Field(ge=0, le=10_000)] = 100

    @property
    def by_mail(self) -> bool:
        """Whether it has a sender and receivers."""
        return self.url.startswith(("smtp", "folder:"))

    @model_validator(mode="after")
    def _addressed(self) -> Tell:
        missing = [name for name, value in (("from", self.sender), ("to", self.to)) if not value]
        if self.by_mail and missing:
            raise ValueError(f"a mail needs '{missing[0]}'")
        return self

    @field_validator("url")
    @classmethod
    def _scheme(cls, value: str) -> str:
        if not re.match(r"smtps?(\+starttls)?://|folder:.|https?://.|exec:.|syslog(\+tcp)?:", value):
            raise ValueError(
                "write smtp://host:25, smtp+starttls://host:587, smtps://host:465, folder:mails, "
                "https://host/path, exec:command, syslog: or syslog://host:514"
            )
        host = value.rpartition("@")[2] if value.startswith("smtp") else ""
        port = re.search(r":([^:/\]]*)/?$", host.partition("://")[2] or host)
        if port and not (port[1].isdecimal() and 0 < int(port[1]) <= _PORTS):
            raise ValueError(f"'{port[1]}' is not a port: write a number from 1 to {_PORTS}, as in smtp://host:25")
        return value

    @field_validator("sender", "to")
    @classmethod
    def _address(cls, value: str | list[str]) -> str | list[str]:
        for each in [value] if isinstance(value, str) else value:
            if not re.fullmatch(r"[^\s@<>,;:]+@[^\s@<>,;:]+|[^@<>,;:\r\n]*<[^\s@<>,;:]+@[^\s@<>,;:]+>", each):
                raise ValueError(f"'{each}' is not a mail address: write one such as desk@line.example")
        return value


class Report(Declared):
    """Where the pages in `reports/` are served, so that mails can name them."""

    base_url: Annotated[str | None, Field(pattern=r"^(https?|file)://\S+$")] = None


class LedgerAt(Declared):
    """A PostgreSQL database in which the ledger is kept, in a schema of its own; a file of the workspace otherwise."""

    url: str
    db_schema: Annotated[str, Field(alias="schema", min_length=1, max_length=63)] = "nomotheta"

    @field_validator("url")
    @classmethod
    def _postgresql(cls, value: str) -> str:
        if not re.match(r"postgres(ql)?://", value):
            raise ValueError(
                "a ledger is kept in the workspace, or in PostgreSQL: write postgresql://user@host/database"
            )
        return Place._no_secret(value)


class Store(Declared):
    """How what lies behind URLs that begin so is opened: keys, endpoints, and what else the file system there takes.

    Secrets are in the options as ${ENV_NAME}.
    """

    url: Annotated[str, Field(pattern=r"^(s3|sftp|https?)://[^/]")]
    options: dict[str, Any] = Field(default={})


class Engine(Declared):
    """Something that carries out loads: Apache Spark, by the connection string of Spark Connect.

    `spark:local[2]` starts one on this machine, with so many workers, to try it out.
    """

    url: Annotated[str, Field(pattern=r"^(sc://[^/]|spark:local(\[|$))")]

    @field_validator("url")
    @classmethod
    def _no_token(cls, value: str) -> str:
        token = re.search(r"[;?&]token=([^;&]*)", value)
        if token and not re.fullmatch(r"\$\{\w+\}", token[1], re.ASCII):
            raise ValueError("the url contains a token; keep it in the environment, and write ${ENV_NAME} for it")
        return value


class Archive(Declared):
    """Where files go once they are in their table, and, in a run, those that cannot be loaded; by their day.

    What is in the archive is taken away after `keep` days.
    """

    folder: str
    quarantine: str | None = None
    keep: Annotated[int | None, Field(ge=1)] = None

    @field_validator("folder", "quarantine")
    @classmethod
    def _by_day(cls, value: str | None) -> str | None:
        if value is not None and not re.fullmatch(r"[^{}*?\[]*\{day(:[^{}]*%[dj][^{}]*)?\}[^{}*?\[]*", value):
            raise ValueError(f"'{value}' is not a folder for each day; write archive/{{day}}")
        return value.rstrip("/") if value else value


class Settings(Declared):
    """`nomotheta.toml`."""

    name: str
    time_zone: str = "UTC"
    places: dict[str, Place]
    layouts: dict[str, DeclaredLayout] = Field(default={})
    tell: dict[str, Tell] = Field(default={})
    report: Report = Field(default=Report())
    archive: Archive | None = None
    ledger: LedgerAt | None = None
    stores: dict[str, Store] = Field(default={})
    engines: dict[str, Engine] = Field(default={})

    @field_validator("time_zone")
    @classmethod
    def _zone(cls, value: str) -> str:
        import zoneinfo

        if value not in zoneinfo.available_timezones():
            raise ValueError(f"'{value}' is not a time zone; write one such as Atlantic/Faroe or UTC")
        return value

    @field_validator("places")
    @classmethod
    def _some(cls, value: dict[str, Place]) -> dict[str, Place]:
        if not value:
            raise ValueError('at least one place is needed: [places.warehouse] url = "duckdb:///warehouse.duckdb"')
        return value

    @model_validator(mode="after")
    def _engines_known(self) -> Settings:
        for name, place in self.places.items():
            if place.engine is not None and place.engine not in self.engines:
                raise ValueError(f"place {name} names an engine that is not declared: [engines.{place.engine}] url = …")
            if place.engine is not None and not place.is_lake:
                raise ValueError(
                    f"place {name} is a database; an engine carries out loads into a lake: delta:///folder"
                )
        return self
