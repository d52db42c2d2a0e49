function Step-Msix($Step) { return Invoke-CommandLine $Step }
