using System.Buffers.Binary;

namespace Moorfield.StandIn;

/// <summary>
/// What starts a made-up medium: it prints a line to the first serial port, and ends a virtual machine that has the exit device of qemu on port
/// 0xF4. There is no Windows in it.
/// </summary>
public static class BootSectors
{
    /// <summary>Bytes that the BIOS loads: eight sectors of 512.</summary>
    public const int BiosLength = 4096;

    /// <summary>The text that the BIOS image prints.</summary>
    public const string BiosText = "Saltmarsh Ferries, started by BIOS";

    /// <summary>The text that the UEFI program prints.</summary>
    public const string UefiText = "Saltmarsh Ferries, started by UEFI";

    private const int FileAlignment = 512, PageSize = 4096;

    /// <summary>Code for a BIOS, which is loaded as a whole to 0x7C00. Its text is in its last bytes, to prove that.</summary>
    public static byte[] Bios()
    {
        byte[] text = Encoding.ASCII.GetBytes(BiosText + "\r\n\0");
        byte[] image = new byte[BiosLength];
        int place = BiosLength - text.Length;
        text.CopyTo(image, place);
        byte[] code =
        [
            0x0E, 0x1F, // push cs, pop ds
            0xE8, 0x00, 0x00, // call here: some firmware starts it at 0000:7C00
            0x5E, // here: pop si
            0x81, 0xC6, (byte)(place - 5), (byte)((place - 5) >> 8), // add si, from here to the text
            0xFC, // cld
            0xAC, // next: lodsb
            0x84, 0xC0, // test al, al
            0x74, 0x10, // jz done
            0x50, // push ax
            0xBA, 0xFD, 0x03, // mov dx, line status
            0xEC, // wait: in al, dx
            0xA8, 0x20, // test al, 0x20
            0x74, 0xFB, // jz wait
            0x58, // pop ax
            0xBA, 0xF8, 0x03, // mov dx, data
            0xEE, // out dx, al
            0xEB, 0xEB, // jmp next
            0xBA, 0xF4, 0x00, // done: mov dx, 0xF4
            0xEE, // out dx, al
            0xF4, // hlt
            0xEB, 0xFD, // jmp back
        ];
        code.CopyTo(image, 0);
        return image;
    }

    /// <summary>A program for UEFI firmware. Source: Microsoft PE and COFF Specification [doc].</summary>
    public static byte[] Uefi()
    {
        byte[] code =
        [
            0x56, // push rsi
            0x48, 0x8D, 0x35, 0x00, 0x00, 0x00, 0x00, // lea rsi, text: behind the code
            0xFC, // cld
            0xAC, // next: lodsb
            0x84, 0xC0, // test al, al
            0x74, 0x16, // jz done
            0x41, 0x88, 0xC0, // mov r8b, al
            0x66, 0xBA, 0xFD, 0x03, // mov dx, line status
            0xEC, // wait: in al, dx
            0xA8, 0x20, // test al, 0x20
            0x74, 0xFB, // jz wait
            0x44, 0x88, 0xC0, // mov al, r8b
            0x66, 0xBA, 0xF8, 0x03, // mov dx, data
            0xEE, // out dx, al
            0xEB, 0xE5, // jmp next
            0x66, 0xBA, 0xF4, 0x00, // done: mov dx, 0xF4
            0xEE, // out dx, al
            0x31, 0xC0, // xor eax, eax
            0x5E, // pop rsi
            0xC3, // ret
        ];
        byte[] text = Encoding.ASCII.GetBytes(UefiText + "\r\n\0");
        BinaryPrimitives.WriteInt32LittleEndian(code.AsSpan(4), code.Length - 8);
        byte[] file = new byte[2 * FileAlignment];
        file[0] = (byte)'M';
        file[1] = (byte)'Z';
        Put(0x3C, 0x40);
        "PE\0\0"u8.CopyTo(file.AsSpan(0x40));
        Put16(0x44, 0x8664);
        Put16(0x46, 1); // sections
        Put16(0x54, 240); // of the optional header
        Put16(0x56, 0x22); // executable, large addresses
        const int Optional = 0x58;
        Put16(Optional, 0x20B);
        Put(Optional + 4, FileAlignment); // of code
        Put(Optional + 16, PageSize); // entry
        Put(Optional + 20, PageSize); // base of code
        Put(Optional + 32, PageSize);
        Put(Optional + 36, FileAlignment);
        Put16(Optional + 48, 6);
        Put(Optional + 56, 2 * PageSize); // of the image
        Put(Optional + 60, FileAlignment); // of the headers
        Put16(Optional + 68, 10); // a UEFI application
        Put(Optional + 108, 16); // directories, all empty
        const int Section = Optional + 240;
        ".text"u8.CopyTo(file.AsSpan(Section));
        Put(Section + 8, PageSize);
        Put(Section + 12, PageSize);
        Put(Section + 16, FileAlignment);
        Put(Section + 20, FileAlignment);
        Put(Section + 36, 0x6000_0020); // code, to be read and executed
        code.CopyTo(file, FileAlignment);
        text.CopyTo(file, FileAlignment + code.Length);
        return file;

        void Put(int at, uint value) => BinaryPrimitives.WriteUInt32LittleEndian(file.AsSpan(at), value);
        void Put16(int at, ushort value) => BinaryPrimitives.WriteUInt16LittleEndian(file.AsSpan(at), value);
    }
}
