"""The state store: hosts, rules, alerts, people, and the record of what was done."""
