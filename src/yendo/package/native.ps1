# Functions of the system as static methods, made without a compiler: name, library, what it gives, what it takes.
function New-Native([string]$Called, $Rows) {
    [Reflection.AssemblyName]$name = [Reflection.AssemblyName]::new($Called)
    $assembly = [Reflection.Emit.AssemblyBuilder]::DefineDynamicAssembly($name, 'Run')
    $type = $assembly.DefineDynamicModule($Called).DefineType($Called, 'Public, Class')
    foreach ($row in $Rows) {
        $method = $type.DefinePInvokeMethod($row[0], $row[1], 'Public, Static, PinvokeImpl', 'Standard', $row[2], [Type[]]$row[3], 'Winapi', 'Unicode')
        $method.SetImplementationFlags('PreserveSig')
    }
    return $type.CreateType()
}
