function Step-Firewall($Step) { return Invoke-CommandLine $Step }
