"""The command line: one file a command, found by its name. Only here is anything printed, parsed or drawn.

A command's file has a docstring (its first line is the summary in the list of commands, the rest its help),
`PRIORITY` (where it stands in that list), `add_arguments(parser)` and `run(options, context)`, which gives the
exit status. A folder is a command with verbs of its own. Files with an underscore are what they share.
"""
