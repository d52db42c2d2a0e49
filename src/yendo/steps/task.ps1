function Step-Task($Step) { return Invoke-CommandLine $Step }
