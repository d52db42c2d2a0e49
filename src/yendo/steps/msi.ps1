function Step-Msi($Step) { return Invoke-CommandLine $Step }
