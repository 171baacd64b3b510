"""Who is told of what: hours, rotas, steps."""
