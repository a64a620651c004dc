"""Files made to do harm, and mutants of sound ones, given to the readers and to the program under limits."""
