function Step-SystemPackage($Step) { return Invoke-CommandLine $Step }
