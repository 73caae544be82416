"""Where a user's own settings are."""

from pathlib import Path

JOURNAL = "acts.jsonl"


def settings_directory() -> Path:
    """Return where a user's settings are looked for."""
    import platformdirs

    return Path(platformdirs.user_config_dir("dunmist"))


def journal_path() -> Path:
    """Return where acts are written down."""
    import platformdirs

    return Path(platformdirs.user_state_dir("dunmist")) / JOURNAL
