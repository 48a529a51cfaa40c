"""MariaDB: its place, how rows reach it, and what it says differently."""
