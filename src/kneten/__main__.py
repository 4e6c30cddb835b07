"""`python -m kneten`."""

import sys

from kneten.app.start.main import main

sys.exit(main(sys.argv[1:]))
