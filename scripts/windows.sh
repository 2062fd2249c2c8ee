#!/bin/sh
# Tries the program for Windows under Wine. Go asks a library of Windows 10 for random numbers
# that Wine 8 does not have yet: one that does the same is made for it.
set -eu
cd "$(dirname "$0")/.."
./scripts/setup.sh windows
export WINEPREFIX="$PWD/bin/wine" WINEDEBUG=-all WINEDLLOVERRIDES="mscoree,mshtml="
system="$WINEPREFIX/drive_c/windows/system32"
[ -d "$system" ] || wine wineboot --init >/dev/null 2>&1 || true
if [ ! -e "$system/bcryptprimitives.dll" ]; then
	printf '%s\n' '#include <windows.h>' 'BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);' \
		'__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T n) { return SystemFunction036(data, (ULONG)n); }' > bin/prng.c
	x86_64-w64-mingw32-gcc -shared -O2 -o "$system/bcryptprimitives.dll" bin/prng.c -ladvapi32
fi
GOOS=windows GOARCH=amd64 go build -ldflags "-s -w" -o bin/revlet.exe ./cmd/revlet
wineserver -p 60 2>/dev/null || true # or each run starts one
REVLET_WINDOWS="$PWD/bin/revlet.exe" go test -count=1 -v -run '^TestWindows$' ./e2e
