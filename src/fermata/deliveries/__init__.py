"""Results on a timetable: what is due, to whom it goes, how it is sent, and the record of it."""
