/* A program that makes a cache and a colour of its own whenever they are missing; --setup places it with a choice that it
   never makes, and a shortcut to it. */
#define COBJMACROS
#include <windows.h>
#include <shlobj.h>

static void put(const char *path, const char *text)
{
    DWORD done;
    HANDLE file = CreateFileA(path, GENERIC_WRITE, 0, NULL, CREATE_NEW, 0, NULL);
    if (file == INVALID_HANDLE_VALUE) return;
    WriteFile(file, text, lstrlenA(text), &done, NULL);
    CloseHandle(file);
}

static void link(void)
{
    IShellLinkA *made;
    IPersistFile *kept;
    CoInitialize(NULL);
    CoCreateInstance(&CLSID_ShellLink, NULL, CLSCTX_INPROC_SERVER, &IID_IShellLinkA, (void **)&made);
    IShellLinkA_SetPath(made, "C:\\Program Files\\Sounder\\starts.exe");
    IShellLinkA_QueryInterface(made, &IID_IPersistFile, (void **)&kept);
    IPersistFile_Save(kept, L"C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs\\Sounder.lnk", TRUE);
    IPersistFile_Release(kept);
    IShellLinkA_Release(made);
}

int WINAPI WinMain(HINSTANCE own, HINSTANCE before, LPSTR line, int show)
{
    char self[MAX_PATH], old[64];
    DWORD size = sizeof old;
    GetModuleFileNameA(NULL, self, sizeof self);
    CreateDirectoryA("C:\\ProgramData\\Sounder", NULL);
    if (line[0] == '-') {
        CreateDirectoryA("C:\\Program Files\\Sounder", NULL);
        CopyFileA(self, "C:\\Program Files\\Sounder\\starts.exe", FALSE);
        put("C:\\ProgramData\\Sounder\\choice.ini", "[Updates]\r\nAsk=0\r\n");
        RegSetKeyValueA(HKEY_CURRENT_USER, "Software\\Sounder", "Chosen", REG_SZ, "yes", 4);
        link();
    }
    put("C:\\ProgramData\\Sounder\\cache.dat", "the same at every start");
    if (RegGetValueA(HKEY_CURRENT_USER, "Software\\Sounder", "Colour", RRF_RT_REG_SZ, NULL, old, &size))
        RegSetKeyValueA(HKEY_CURRENT_USER, "Software\\Sounder", "Colour", REG_SZ, "blue", 5);
    return 0;
}
