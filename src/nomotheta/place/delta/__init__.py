"""Delta tables in a folder or an object store: an open format that one machine and a cluster both read and write."""
