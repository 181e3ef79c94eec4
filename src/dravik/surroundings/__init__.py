"""What is around an aircraft: the Earth, air, wind, gusts, turbulence, ground; and what the kernel computes of them."""
