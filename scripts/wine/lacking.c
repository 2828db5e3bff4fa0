/* What Wine lacks and Go programs need. ProcessPrng gives random bytes. FileDispositionInformationEx (64) is
 * refused in the way of an older Windows, so that Go removes files by the older call; Wine refuses it in a way
 * that no Windows does. */
#include <windows.h>
#include <winternl.h>
#include <string.h>

BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size) { return SystemFunction036(data, (ULONG)size); }

typedef NTSTATUS(NTAPI *set_information)(HANDLE, PVOID, PVOID, ULONG, ULONG);
static set_information original;

static NTSTATUS NTAPI set_file(HANDLE file, PVOID status, PVOID data, ULONG size, ULONG kind) {
  if (kind == 64) return (NTSTATUS)0xC0000003; /* STATUS_INVALID_INFO_CLASS */
  return original(file, status, data, size, kind);
}

/* near_code puts a jump to our function where an export of the module can reach it. */
static BYTE *near_code(BYTE *base) {
  for (SIZE_T at = 0x1000000; at < 0x70000000; at += 0x100000) {
    BYTE *p = VirtualAlloc(base + at, 0x1000, MEM_RESERVE | MEM_COMMIT, PAGE_EXECUTE_READWRITE);
    if (p) return p;
  }
  return NULL;
}

BOOL WINAPI DllMain(HINSTANCE self, DWORD why, LPVOID reserved) {
  if (why != DLL_PROCESS_ATTACH) return TRUE;
  BYTE *base = (BYTE *)GetModuleHandleA("ntdll.dll");
  IMAGE_NT_HEADERS *nt = (IMAGE_NT_HEADERS *)(base + ((IMAGE_DOS_HEADER *)base)->e_lfanew);
  IMAGE_EXPORT_DIRECTORY *x = (IMAGE_EXPORT_DIRECTORY *)(base + nt->OptionalHeader.DataDirectory[0].VirtualAddress);
  DWORD *names = (DWORD *)(base + x->AddressOfNames), *functions = (DWORD *)(base + x->AddressOfFunctions);
  WORD *ordinals = (WORD *)(base + x->AddressOfNameOrdinals);
  for (DWORD i = 0; i < x->NumberOfNames; i++) {
    if (strcmp((char *)(base + names[i]), "NtSetInformationFile")) continue;
    DWORD *entry = functions + ordinals[i], before;
    BYTE *jump = near_code(base);
    if (!jump) return TRUE;
    original = (set_information)(base + *entry);
    void *to = (void *)set_file;
    memcpy(jump, "\x48\xb8", 2); /* mov rax, to; jmp rax */
    memcpy(jump + 2, &to, 8);
    memcpy(jump + 10, "\xff\xe0", 2);
    VirtualProtect(entry, sizeof *entry, PAGE_READWRITE, &before);
    *entry = (DWORD)(jump - base);
    VirtualProtect(entry, sizeof *entry, before, &before);
  }
  return TRUE;
}
