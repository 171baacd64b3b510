"""Collecting from a host over the network, without an agent: over SSH and over SNMP. The same for console and relay."""
