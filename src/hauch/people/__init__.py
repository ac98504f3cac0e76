"""People, their roles and what each may do; the audit trail."""
