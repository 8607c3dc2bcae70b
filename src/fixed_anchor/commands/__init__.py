"""The subcommands, one module each: parse, call, print."""
