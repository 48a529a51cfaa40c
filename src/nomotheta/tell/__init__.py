"""Telling the team: mails about what fails, through an outbox."""

from nomotheta.tell.mail import message_of, worth_telling, written
from nomotheta.tell.sending import Delivered, send

__all__ = ["Delivered", "message_of", "send", "worth_telling", "written"]
