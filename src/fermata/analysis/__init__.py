"""Events to tables: filters, calendar units, measures. Builds engine expressions; reads no files and no clock."""
