"""What speed and memory are measured with; figures never come from anywhere else."""
