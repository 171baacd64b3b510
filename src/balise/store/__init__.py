"""What is kept: state, series and events, each in SQLite through SQLAlchemy."""
