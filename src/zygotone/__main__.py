import sys

from zygotone.cli import main

sys.exit(main())
