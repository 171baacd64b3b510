"""The relay: stands between a site and the console, keeps what the console cannot take yet, and reads near hosts."""
