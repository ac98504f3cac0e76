"""Practice at the virtual bench: hidden faults, told afterwards."""
