"""Telling the team: mails about what fails, through an outbox."""

from nomotheta.tell.mail import News, message_of, news_for, worth_telling, written
from nomotheta.tell.sending import Delivered, send

__all__ = ["Delivered", "News", "message_of", "news_for", "send", "worth_telling", "written"]
