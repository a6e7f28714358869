"""Mail: what an application sends its letters to."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND"]

KIND = ServiceKind(
    name="mail",
    title="mail",
    image=r"mail(hog|pit|catcher|dev)|smtp4dev|inbucket|(^|/)(postfix|smtp|mail)\b",
    port=1025,
    schemes=r"^(smtps?|submission)(\+\w+)?$",
    new_scheme="smtp",
    key_words={"SMTP": 1, "MAIL": 1, "EMAIL": 1, "MAILER": 1},
    # An address of mail is a person's, a backend a class.
    not_keys=r"(^|_)(?<!SMTP_)(ADDRESS|ADDR)$|(^|_)(BACKEND|NAME|DATABASE|DB|CONNECTION_STRING)$",
    host_keys=r"(^|_)SMTP_(ADDRESS|ADDR)$",
    by_keys_alone=True,
    unused=r"^(MAIL_(MAILER|DRIVER|TRANSPORT)|EMAIL_(BACKEND|TRANSPORT))=.*\b(log|array|null|none|console|locmem|dummy|filebased)\b",
    precedence=8,
)
