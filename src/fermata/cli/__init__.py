"""The command line: reads options, calls the library, prints. It computes nothing."""
