/* Asks a person whether updates stay on, and writes the answer down: what cannot be had without a hand. */
#include <windows.h>

int WINAPI WinMain(HINSTANCE own, HINSTANCE before, LPSTR line, int show)
{
    DWORD on = MessageBoxA(NULL, "Look for updates?", "Sounder", MB_YESNO) == IDYES;
    RegSetKeyValueA(HKEY_LOCAL_MACHINE, "Software\\Tidewell\\Sounder", "Updates", REG_DWORD, &on, sizeof on);
    return 0;
}
