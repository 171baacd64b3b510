"""Rules: windows over what arrives, and limits that open, worsen and clear."""
