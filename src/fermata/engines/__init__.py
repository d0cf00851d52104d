"""The engines that events are worked out on: embedded, a PostgreSQL table where it is, Spark."""
