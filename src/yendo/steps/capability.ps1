function Step-Capability($Step) { return Invoke-CommandLine $Step }
