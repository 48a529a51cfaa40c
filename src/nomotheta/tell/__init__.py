"""Telling the team what fails: by mail, webhook, command or system log, through an outbox."""

from nomotheta.tell.channels import send
from nomotheta.tell.mail import News, Written, news_for, worth_telling, written
from nomotheta.tell.parcel import Delivered, Parcel

__all__ = ["Delivered", "News", "Parcel", "Written", "news_for", "send", "worth_telling", "written"]
