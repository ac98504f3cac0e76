"""The day: who does what on which bench, printer and oven, and what when it goes wrong."""
