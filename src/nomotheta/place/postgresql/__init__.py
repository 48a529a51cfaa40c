"""PostgreSQL: its place, and what it says differently."""
