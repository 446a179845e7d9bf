"""`kinglet language-server`: help inside an editor."""

from __future__ import annotations

import click


@click.command("language-server")
def command() -> None:
    """Serve an editor over standard input and output (Language Server Protocol).

    As one types: what is wrong and how to mend it, what may stand here, what a pattern takes of the sample. An editor
    starts it; see docs/editors.md.
    """
    from kinglet.errors import UsageError

    try:
        from kinglet.editor.server import server
    except ModuleNotFoundError as error:
        if error.name not in ("pygls", "lsprotocol"):
            raise
        raise UsageError("language-server needs the package pygls", "pip install 'kinglet-logs[editor]'") from None
    server().start_io()
