"""What leaves the program: findings for machines and for print."""
