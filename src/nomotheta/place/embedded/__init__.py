"""DuckDB, and the databases whose rows are judged in it: SQLite, and any with a dialect of SQLAlchemy."""
