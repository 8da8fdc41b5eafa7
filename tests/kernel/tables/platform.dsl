// More of a board: idle states, collaborative clock control, a fan, a platform mode with charge limit. State on a page of its own,
// beside that of the laptop.
DefinitionBlock ("", "SSDT", 2, "RIG", "PLATFORM", 0x00000001)
{
    External (\_SB.CPUS.C000, DeviceObj)
    External (\_SB.CPUS.C001, DeviceObj)
    External (\_SB.PCI0.S80, DeviceObj)          // -device VGA,addr=0x10

    OperationRegion (RIGX, SystemMemory, 0x10001000, 0x1000)
    Field (RIGX, DWordAcc, NoLock, Preserve)
    {
        XMAG, 32,   // 0x00
        FANS, 32,   // 0x04 fan level
        BRGT, 32,   // 0x08 brightness
        DYTM, 32,   // 0x0c DYTC mode: 3 low-power, 2 performance, 15 balanced
        CONS, 32,   // 0x10 conservation mode
        RSOC, 32,   // 0x14 charge end threshold
        TTPM, 32,   // 0x18
    }
    Method (\_SB._OSC, 4) { Return (Arg3) }       // say yes to everything (needed for _CPC)

    Name (RCST, Package () { 2,
        Package () { ResourceTemplate () { Register (FFixedHW, 0, 0, 0) }, 1, 1, 1000 },
        Package () { ResourceTemplate () { Register (SystemIO, 8, 0, 0x05F2) }, 2, 80, 500 } })
    Scope (\_SB.CPUS.C000)
    {
        Method (_CST) { Return (RCST) }
        Name (_CPC, Package () { 23, 3, 200, 120, 60, 20,
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },             // guaranteed
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002000, 3) },   // desired
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002004, 3) },   // min
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002008, 3) },   // max
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x1000200c, 3) },   // reference ctr
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002010, 3) },   // delivered ctr
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002014, 3) },   // perf limited
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002018, 3) },   // enable
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x1000201c, 3) },   // auto select
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (FFixedHW, 8, 24, 0xC00102B3, 4) },       // EPP: newer kernels take a register alone
            120, 400, 2400 })
    }
    Scope (\_SB.CPUS.C001)
    {
        Method (_CST) { Return (RCST) }
        Name (_CPC, Package () { 23, 3, 200, 120, 60, 20,
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002040, 3) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002044, 3) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002048, 3) },
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x1000204c, 3) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002050, 3) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002054, 3) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x10002058, 3) },
            ResourceTemplate () { Register (SystemMemory, 32, 0, 0x1000205c, 3) },
            ResourceTemplate () { Register (SystemMemory, 0, 0, 0, 0) },
            ResourceTemplate () { Register (FFixedHW, 8, 24, 0xC00102B3, 4) },
            120, 400, 2400 })
    }
    Scope (\_SB)
    {
        Device (RIGX)
        {
            Name (_HID, "RIG0002")
            Method (_INI)
            {
                If (XMAG != 0x58474952)
                {
                    FANS = 0
                    BRGT = 70
                    DYTM = 15
                    CONS = 0
                    RSOC = 100
                    XMAG = 0x58474952
                }
            }
        }
        Device (FAN0)
        {
            Name (_HID, EisaId ("PNP0C0B"))
            Name (_UID, 0)
            Name (_STR, Unicode ("rig fan"))
            Name (_FIF, Package () { 0, 0, 0, 0 })
            Name (_FPS, Package () { 0,
                Package () { 0, 0xFFFFFFFF, 0, 0, 0 },
                Package () { 1, 0xFFFFFFFF, 1500, 100, 500 },
                Package () { 2, 0xFFFFFFFF, 3000, 200, 1000 },
                Package () { 3, 0xFFFFFFFF, 4500, 300, 2000 } })
            Method (_FSL, 1, Serialized) { FANS = Arg0 }
            Name (PFST, Package () { 0, 0, 0 })
            Method (_FST, 0, Serialized) { PFST [1] = FANS  PFST [2] = FANS * 1500  Return (PFST) }
        }
        Device (VPC0)
        {
            Name (_HID, "VPC2004")
            Name (_UID, 0)
            Name (_CFG, 0)
            Name (VD, 0)
            Method (VPCR, 1, Serialized) { Return (0) }
            Method (VPCW, 2, Serialized) { VD = Arg1 }
            Method (GBMD, 0, Serialized) { Local0 = 0  If (CONS) { Local0 = 0x20 } Return (Local0) }
            Method (SBMC, 1, Serialized) { If (Arg0 == 3) { CONS = 1 } If (Arg0 == 5) { CONS = 0 } }
            Method (DYTC, 1, Serialized)
            {
                Local0 = Arg0 & 0x1FF
                If (Local0 == 0) { Return (0x50000101) }                 // rev 5, enabled
                If (Local0 == 2) { Return ((DYTM << 16) | 0x0B01) }      // current mode, function MMC
                If (Local0 == 0x1FF) { DYTM = 15  Return (1) }
                If (Local0 == 1) { DYTM = (Arg0 >> 16) & 0x0F  Return (1) }
                Return (0)
            }
        }
        Device (ATKD)
        {
            Name (_HID, EisaId ("PNP0C14"))
            Name (_UID, "ATK")
            Name (_WDG, Buffer () {
                0xD0,0x5E,0x84,0x97, 0x6D,0x4E, 0xDE,0x11, 0x8A,0x39, 0x08,0x00,0x20,0x0C,0x9A,0x66, 0x4E,0x42, 0x01, 0x02,
                0x35,0xBB,0x3C,0x0B, 0xC2,0xE3, 0xED,0x45, 0x91,0xC2, 0x4C,0x5A,0x6D,0x19,0x5D,0x1C, 0xFF,0x00, 0x01, 0x08 })
            Method (_WED, 1, Serialized) { Return (0) }
            Method (WMNB, 3, Serialized)
            {
                CreateDWordField (Arg2, 0, IIA0)
                If (Arg1 == 0x53545344)                       // DSTS
                {
                    If (IIA0 == 0x00120057) { Return (0x00010000 | RSOC) }
                    Return (0xFFFFFFFE)
                }
                If (Arg1 == 0x53564544)                       // DEVS
                {
                    CreateDWordField (Arg2, 4, IIA1)
                    If (IIA0 == 0x00120057) { RSOC = IIA1  Return (1) }
                    Return (0xFFFFFFFE)
                }
                If (Arg1 == 0x54494E49) { Return (1) }        // INIT
                If (Arg1 == 0x43455053) { Return (0x00010000) }
                If (Arg1 == 0x4E554653) { Return (0) }
                Return (0xFFFFFFFE)
            }
        }
    }
    Scope (\_SB.PCI0.S80)
    {
        Method (_DOS, 1) { }
        Method (_DOD) { Return (Package () { 0x80010400 }) }
        Device (LCD0)
        {
            Name (_ADR, 0x0400)
            Method (_BCL) { Return (Package () { 100, 50, 10, 20, 30, 40, 50, 60, 70, 80, 90, 100 }) }
            Method (_BCM, 1, Serialized) { BRGT = Arg0 }
            Method (_BQC) { Return (BRGT) }
        }
    }
}
