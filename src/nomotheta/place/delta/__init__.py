"""Delta tables in a folder or an object store: an open format that one machine and a cluster both read and write."""

import os

os.environ.setdefault("RUST_LOG", "off")  # what goes wrong is told by us, and once
