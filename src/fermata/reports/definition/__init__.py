"""Reports as people write them: the model, its files, the ready ones, the look."""
