"""Planning the work: durations from the record, blocks in chance order, schedules, what they hang on."""
