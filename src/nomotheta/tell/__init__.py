"""Telling the team: mails about what fails, through an outbox."""

from nomotheta.tell.mail import as_run, send, worth_telling, written

__all__ = ["as_run", "send", "worth_telling", "written"]
