"""The command line: arguments in, calls to the other rooms, tables and messages out.

It alone knows that a terminal exists. One module a command, imported when that command is run.
"""
