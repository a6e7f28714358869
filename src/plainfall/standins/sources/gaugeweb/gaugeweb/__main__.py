import sys

from gaugeweb.command import main

sys.exit(main())
