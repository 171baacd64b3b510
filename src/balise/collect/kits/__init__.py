"""Reading services as their kits say."""
