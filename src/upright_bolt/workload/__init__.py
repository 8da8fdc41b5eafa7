"""What runs execute: on real cores in worker processes, or as a demand on a twin's simulated cores."""
