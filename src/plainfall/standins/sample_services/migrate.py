"""Makes the desk's table."""

import os

from wires import Database

if os.environ.get("POSTGRES_HOST"):
    Database().query("CREATE TABLE IF NOT EXISTS readings (day date, station text, millimetres numeric)")
    print("the table readings is there")
else:
    print("no database is named: nothing to do")
