function Step-Script($Step) { return Invoke-CommandLine $Step }
