"""What the page sends, read into commands of the core."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from pydantic import Field, TypeAdapter, ValidationError

from core.document.commands import Command
from core.tempomap.edits import EditError
from studio.inputs import field_called

_COMMANDS: TypeAdapter[Command] = TypeAdapter(Annotated[Command, Field(discriminator="kind")])


def read_command(data: dict[str, Any]) -> Command:
    """The command that JSON from the page means. Raises :class:`EditError` with a sentence about the wrong field."""
    try:
        return _COMMANDS.validate_python(data)
    except ValidationError as e:
        first = e.errors()[0]
        if first["type"].startswith("union_tag"):
            raise EditError("This version of Diachron does not know that edit.") from None
        wanted = {"int": "a whole number", "float": "a number", "finite": "a number"}
        kind = next((words for part, words in wanted.items() if part in first["type"]), "something else")
        raise EditError(f"The {field_called(e)} has to be {kind}.") from None


def command_json(command: Command) -> dict[str, Any]:
    """A command as the page sends it back."""
    return asdict(command)
