"""What is in force on a machine and what was: what needs the machine's rights lives here."""
