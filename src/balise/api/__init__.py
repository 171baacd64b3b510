"""The types that cross a boundary: requests, answers, rules. Nothing here computes."""
