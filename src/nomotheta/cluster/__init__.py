"""Loads carried out by a cluster that already exists: Apache Spark, through Spark Connect."""

from nomotheta.cluster.spread import Spread

__all__ = ["Spread"]
