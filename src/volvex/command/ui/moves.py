"""How `install` and `restore` tell what they do."""

from __future__ import annotations

from collections.abc import Sequence

from volvex.archive.safe_names import shown
from volvex.bench.build import Built
from volvex.command.ui.context import Context
from volvex.command.ui.table import Column, count, number, print_table
from volvex.errors import Status
from volvex.mods import Action

MOST = 40  # files that are listed


def note_copies(built: Sequence[Built], context: Context) -> None:
    """Say which archives are changed since they have the same content as another one that is."""
    for one in built:
        if one.copies:
            context.print(
                f"{shown(one.path)}: {count(one.copies, 'change')}, since it has the same content as another archive"
            )


def tell(
    actions: Sequence[Action],
    skipped: Sequence[Action],
    planned: bool,
    as_json: bool,
    context: Context,
    otherwise: str = "nothing is installed",
) -> int:
    """Print what happened or would happen, or `otherwise` when nothing did; the exit status."""
    if as_json:
        context.json(
            {
                "path": action.path,
                "action": action.what,
                "before": action.before,
                "after": action.after,
                "planned": planned,
                "why": action.why,
            }
            for action in (*actions, *skipped)
        )
    elif not actions and not skipped:
        context.print(otherwise)
    elif actions:
        rows = sorted(actions, key=lambda one: one.what in ("add", "remove"))[:MOST] if len(actions) > MOST else actions
        print_table(
            context,
            [
                Column("before", [number(action.before) for action in rows], right=True),
                Column("after", [number(action.after) for action in rows], right=True),
                Column("action", [action.what for action in rows], style="green"),
                Column(
                    "file", [shown(f"{action.path}: {action.why}" if action.why else action.path) for action in rows]
                ),
            ],
        )
        if len(actions) > MOST:
            context.print(f"and {count(len(actions) - MOST, 'more file')}: --json lists all")
        said = "would be changed; plan only, nothing changed" if planned else "changed"
        context.print(context.paint(f"{count(len(actions), 'file')} {said}", "dim"))
    for one in skipped:
        context.complain(f"skipped: {shown(one.path)}: {shown(one.why)}")
        if one.hint:
            context.complain(f"try {shown(one.hint)}")
    return Status.REFUSED if skipped else Status.OK
