"""The guided set-up: from a question to a round that can be measured, in five short steps."""
