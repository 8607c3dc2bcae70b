"""``fixed-anchor completion``: the script that completes the command line in a shell."""

from __future__ import annotations

import click

from fixed_anchor.commands.common import examples

#: How each shell reads the script at its start.
_LINES = {
    "bash": """eval "$(fixed-anchor completion bash)"   in ~/.bashrc""",
    "zsh": """eval "$(fixed-anchor completion zsh)"   in ~/.zshrc, behind compinit""",
    "fish": "fixed-anchor completion fish | source   in ~/.config/fish/config.fish",
}


@click.command(
    help="Print the script that completes commands, options, hosts, codes and changes.\n\n\\b\n"
    + "\n".join(_LINES.values()),
    epilog=examples(
        ("echo 'eval \"$(fixed-anchor completion bash)\"' >> ~/.bashrc", "for bash, from the next session on"),
        ("fixed-anchor completion zsh", "what zsh would read"),
    ),
)
@click.argument("shell", type=click.Choice(list(_LINES)))
@click.pass_context
def command(ctx: click.Context, shell: str) -> None:
    from click.shell_completion import get_completion_class

    made = get_completion_class(shell)
    assert made is not None
    root = ctx.find_root()
    click.echo(made(root.command, {}, "fixed-anchor", "_FIXED_ANCHOR_COMPLETE").source())
