function Step-Include($Step) { return Invoke-CommandLine $Step }
