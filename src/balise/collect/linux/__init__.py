"""Parts of a Linux system beyond what every Unix tells."""
