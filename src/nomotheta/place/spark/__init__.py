"""Apache Spark, through Spark Connect: tables of its own catalogue, and those of a lake that it is to ask."""
