"""One machine in use: sampling, applying, trials and their journal, runs. Time comes from an injected clock."""
