"""The rows of one session as plain data, and back: with new keys, and from an older version's tables."""

from __future__ import annotations

import base64
import datetime
from collections.abc import Callable, Mapping
from typing import Any

from django.apps import apps
from django.db import models

#: Rows by the label of their model, like ``library.track``; each is its fields by their columns' names.
Rows = dict[str, list[dict[str, Any]]]

#: What says nothing of the session itself: work under way, files on their way in, who may open it here.
_LEFT_OUT = ("jobs.job", "library.upload", "accounts.grant")
_SESSION = "library.session"


def models_of_session() -> list[type[models.Model]]:
    """The models whose rows belong to a session, each after those that its rows cannot be without."""
    session = apps.get_model(_SESSION)
    found: list[type[models.Model]] = [session]
    pending: list[type[models.Model]] = [session]
    while pending:
        owner = pending.pop(0)
        for model in apps.get_models():
            owned = any(f.related_model is owner and not f.null for f in _keys(model))
            if owned and model not in found and model._meta.label_lower not in _LEFT_OUT:
                found.append(model)
                pending.append(model)
    return _ordered(found)


def _keys(model: type[models.Model]) -> list[models.ForeignKey[Any, Any]]:
    return [f for f in model._meta.concrete_fields if isinstance(f, models.ForeignKey)]


def _needs(model: type[models.Model]) -> set[type[models.Model]]:
    return {f.related_model for f in _keys(model) if not f.null}


def _ordered(found: list[type[models.Model]]) -> list[type[models.Model]]:
    out: list[type[models.Model]] = []
    while len(out) < len(found):
        out.append(next(m for m in found if m not in out and all(n in out for n in _needs(m))))
    return out


def rows_of(session: models.Model) -> Rows:
    """All rows of a session, also those of tracks and parts that were taken out."""
    out: Rows = {_SESSION: [plain(session)]}
    keys: dict[type[models.Model], set[Any]] = {type(session): {session.pk}}
    for model in models_of_session():
        if model in keys:
            continue
        owners = [f for f in _keys(model) if not f.null and f.related_model in keys]
        owner = owners[0]
        rows = model._base_manager.filter(**{f"{owner.name}__in": keys[owner.related_model]}).order_by("pk")
        keys[model] = set()
        out[model._meta.label_lower] = []
        for row in rows.iterator(chunk_size=500):
            keys[model].add(row.pk)
            out[model._meta.label_lower].append(plain(row))
    return out


def plain(row: models.Model) -> dict[str, Any]:
    """A row as JSON can hold it."""
    out = {}
    for field in row._meta.concrete_fields:
        value = getattr(row, field.attname)
        if isinstance(value, bytes | memoryview):
            value = base64.b64encode(bytes(value)).decode("ascii")
        elif isinstance(value, datetime.datetime):
            value = value.isoformat()
        out[field.attname] = value
    return out


def filled(model: type[models.Model], values: Mapping[str, Any]) -> models.Model:
    """A new row with the given values. Raises ``ValueError`` for a missing value, ``ValidationError`` for a bad one."""
    fields = {f.attname: f for f in model._meta.concrete_fields}
    if missing := set(fields) - set(values):
        raise ValueError(f"{model._meta.label} has no value for {', '.join(sorted(missing))}")
    made = {name: fields[name].to_python(value) for name, value in values.items() if name in fields}
    for name, field in fields.items():
        if isinstance(field, models.BinaryField) and name in made:
            made[name] = bytes(made[name])
    return model(**made)


def save_renumbered(
    rows: Rows, session: models.Model, edit: Callable[[str, models.Model], None]
) -> dict[str, dict[int, int]]:
    """Store the rows under new keys as those of ``session``, an empty one, inside a transaction of the caller; returns
    the new keys by model and old key.

    ``edit`` may change each row before it is stored. Keys that lead to rows stored later are filled in at the end.
    """
    new: dict[str, dict[int, int]] = {m._meta.label_lower: {} for m in models_of_session()}
    later: list[tuple[models.Model, models.ForeignKey[Any, Any], int]] = []
    for model in models_of_session():
        label = model._meta.label_lower
        for values in sorted(rows.get(label, []), key=lambda r: r[model._meta.pk.attname]):
            row = filled(model, values)
            old, row.pk = row.pk, session.pk if label == _SESSION else None
            for key in _keys(model):
                wanted = getattr(row, key.attname)
                if wanted is None:
                    continue
                known = new.get(key.related_model._meta.label_lower, {}).get(wanted)
                setattr(row, key.attname, known)
                if known is None:
                    later.append((row, key, wanted))
            edit(label, row)
            # as it is: times that the model would set itself are those of the archive
            row.save_base(raw=True, force_insert=label != _SESSION)
            new[label][old] = row.pk
    for row, key, wanted in later:
        known = new.get(key.related_model._meta.label_lower, {}).get(wanted)
        if known is not None:
            type(row)._base_manager.filter(pk=row.pk).update(**{key.attname: known})
    return new
