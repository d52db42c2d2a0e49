function Step-Exe($Step) { return Invoke-CommandLine $Step }
