"""What plans are written in: amounts, rules, run conditions, wishes on an installer database."""
