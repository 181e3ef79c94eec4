"""``python -m dravik`` is the command line."""

import sys

from dravik.cli import main

sys.exit(main())
