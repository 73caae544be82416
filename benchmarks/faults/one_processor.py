"""A live fault: one thread that never stops. Expected: core, this program."""

while True:
    pass
