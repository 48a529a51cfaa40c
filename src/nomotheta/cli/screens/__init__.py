"""Results as an analyst reads them at a terminal: what matters first, then what failed, with examples."""
