// A laptop for an emulated board: five clocks, charger, battery, thermal zone. Its state lies on one page of memory.
DefinitionBlock ("", "SSDT", 2, "RIG", "LAPTOP", 0x00000001)
{
    External (\_SB.CPUS.C000, DeviceObj)
    External (\_SB.CPUS.C001, DeviceObj)

    // 64 KiB hole made by the guest command line  memmap=64K$0x10000000
    OperationRegion (RIGM, SystemMemory, 0x10000000, 0x1000)
    Field (RIGM, DWordAcc, NoLock, Preserve)
    {
        MAGC, 32,   // 0x00 magic: defaults are written when this is not 0x31474952
        ACON, 32,   // 0x04 1 = AC plugged
        BSTT, 32,   // 0x08 _BST state: 0 full/idle, 1 discharging, 2 charging
        BRTE, 32,   // 0x0c rate mW
        BCAP, 32,   // 0x10 remaining mWh
        BVLT, 32,   // 0x14 mV
        TMPR, 32,   // 0x18 temperature, 1/10 K
        PPCV, 32,   // 0x1c _PPC (highest allowed P-state index)
        BALM, 32,   // 0x20 last _BTP argument
        NCNT, 32,   // 0x24 count of Notify rounds
        TCNT, 32,   // 0x28 count of _TMP evaluations
    }
    Name (LAC, 0xFF)    // last AC state told
    Name (LPP, 0xFF)    // last _PPC told

    Name (LPSS, Package ()
    {   // MHz, mW, latency us, busmaster latency us, control, status
        Package () { 2400, 25000, 10, 10, 0x18, 0x18 },
        Package () { 2000, 20000, 10, 10, 0x14, 0x14 },
        Package () { 1600, 15000, 10, 10, 0x10, 0x10 },
        Package () { 1200, 10000, 10, 10, 0x0C, 0x0C },
        Package () {  800,  6000, 10, 10, 0x08, 0x08 }
    })
    Scope (\_SB.CPUS.C000)
    {
        Name (_PCT, Package () {
            ResourceTemplate () { Register (SystemIO, 8, 0, 0x05E0) },
            ResourceTemplate () { Register (SystemIO, 8, 0, 0x05E0) } })
        Method (_PSS) { Return (LPSS) }
        Method (_PPC) { Return (PPCV) }
    }
    Scope (\_SB.CPUS.C001)
    {
        Name (_PCT, Package () {
            ResourceTemplate () { Register (SystemIO, 8, 0, 0x05E1) },
            ResourceTemplate () { Register (SystemIO, 8, 0, 0x05E1) } })
        Method (_PSS) { Return (LPSS) }
        Method (_PPC) { Return (PPCV) }
    }

    Scope (\_SB)
    {
        Method (LUPD, 0, Serialized)     // tell the OS about state poked by guest or host
        {
            If (LAC != ACON)
            {
                LAC = ACON
                NCNT++
                Notify (\_SB.ADP1, 0x80)
                Notify (\_SB.BAT0, 0x80)
            }
            If (LPP != PPCV)
            {
                LPP = PPCV
                Notify (\_SB.CPUS.C000, 0x80)
                Notify (\_SB.CPUS.C001, 0x80)
            }
        }
        Device (RIGC)                     // only for defaults
        {
            Name (_HID, "RIG0001")
            Method (_INI)
            {
                If (MAGC != 0x31474952)
                {
                    ACON = 1
                    BSTT = 0
                    BRTE = 0
                    BCAP = 40000
                    BVLT = 12100
                    TMPR = 3182          // 45.0 C
                    PPCV = 0
                    BALM = 0
                    NCNT = 0
                    TCNT = 0
                    MAGC = 0x31474952
                }
                LAC = ACON
                LPP = PPCV
            }
        }
        Device (ADP1)
        {
            Name (_HID, "ACPI0003")
            Name (_PCL, Package () { \_SB })
            Method (_PSR) { Return (ACON) }
            Method (_STA) { Return (0x0F) }
        }
        Device (BAT0)
        {
            Name (_HID, EisaId ("PNP0C0A"))
            Name (_UID, 0)
            Name (_PCL, Package () { \_SB })
            Method (_STA) { Return (0x1F) }
            Name (_BIF, Package () {
                0, 50000, 45000, 1, 11400, 5000, 2000, 100, 100,
                "PONTOON", "0001", "LION", "RIG" })
            Name (PBST, Package () { 0, 0, 0, 0 })
            Method (_BST, 0, Serialized)
            {
                PBST [0] = BSTT
                PBST [1] = BRTE
                If (ACON == 0)
                {
                    PBST [0] = 1
                    If (BRTE == 0) { PBST [1] = 9500 }
                }
                PBST [2] = BCAP
                PBST [3] = BVLT
                Return (PBST)
            }
            // guest switch: echo N > BAT0/alarm (uWh) runs _BTP (N/1000).
            // 41001 -> AC off, 41002 -> AC on; anything else is just kept.
            Method (_BTP, 1, Serialized)
            {
                BALM = Arg0
                If (Arg0 == 41001) { ACON = 0 }
                If (Arg0 == 41002) { ACON = 1 }
                LUPD ()
            }
        }
    }
    Scope (\_TZ)
    {
        ThermalZone (TZ0)
        {
            Method (_TMP, 0, Serialized)
            {
                TCNT++
                \_SB.LUPD ()             // the polling point
                Return (TMPR)
            }
            Method (_CRT) { Return (3782) }      // 105 C
            Method (_PSV) { Return (3632) }      // 90 C
            Name (_PSL, Package () { \_SB.CPUS.C000, \_SB.CPUS.C001 })
            Name (_TC1, 1)
            Name (_TC2, 5)
            Name (_TSP, 10)
            Name (_TZP, 10)                       // poll every 1.0 s
        }
    }
}
