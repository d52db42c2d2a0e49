function Step-Feature($Step) { return Invoke-CommandLine $Step }
