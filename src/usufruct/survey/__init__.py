"""Looking at disk and ledger once, into frozen values that planning decides on."""
