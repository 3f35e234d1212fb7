"""Django's way to MariaDB, which looks less often whether it is still there."""
