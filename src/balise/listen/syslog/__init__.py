"""Taking in syslog over UDP (RFC 5426), TCP (RFC 6587) and TLS (RFC 5425)."""
