function Step-Rights($Step) { return Invoke-CommandLine $Step }
