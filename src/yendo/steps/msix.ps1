function Step-Msix($Step) {
    Remove-Tree 'HKLM' '64' $Step['barred']
    Add-Record 'U' $Step['people']
    return Invoke-CommandLine $Step
}
