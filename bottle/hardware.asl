// What the emulated board lacks: a battery that is worn, a mains supply, a thermal zone and a fan.
DefinitionBlock ("", "SSDT", 2, "SKERRO", "BOTTLE", 1)
{
    Scope (\_SB)
    {
        Device (ADP0)
        {
            Name (_HID, "ACPI0003")
            Method (_PSR) { Return (Zero) }            // not plugged in
            Method (_STA) { Return (0x0F) }
            Name (_PCL, Package () { \_SB_ })
        }
        Device (BAT0)
        {
            Name (_HID, EisaId ("PNP0C0A"))
            Method (_STA) { Return (0x1F) }
            Name (_PCL, Package () { \_SB })
            // mWh: designed for 50, of which 21 are left; 312 cycles
            Name (_BIX, Package ()
            {
                1, 0, 50000, 21000, 1, 11400, 2100, 1000, 312, 95000, 1000, 500, 1000, 500, 10, 10,
                "SK-BAT", "0001", "LION", "Skerrow", 0
            })
            // discharging at 9.5 W with 12 Wh left
            Name (_BST, Package () { 1, 9500, 12000, 11100 })
        }
        Device (FAN0)
        {
            Name (_HID, EisaId ("PNP0C0B"))
            Name (_FIF, Package () { 0, 1, 1, 0 })
            Name (_FPS, Package () { 0, Package () { 0, 0, 0, 0, 0 }, Package () { 100, 0, 3000, 0, 0 } })
            Method (_FSL, 1) { }
            Name (_FST, Package () { 0, 100, 2900 })
        }
    }
    Scope (\)
    {
        ThermalZone (TZ0)
        {
            Method (_TMP) { Return (3182) }            // 45 °C, in tenths of a kelvin
            Method (_CRT) { Return (3732) }            // 100 °C
            Name (_TZP, 100)
        }
    }
}
