using System.Text;
using Moorfield.Formats.Startup;

namespace Moorfield.Formats.Tests;

/// <summary>Shortcuts and scheduled tasks.</summary>
public sealed class StartupFileTests
{
    private const string Target = @"C:\Program Files\Ticket Printer\tray.exe";
    private static readonly byte[] Class = new Guid("00021401-0000-0000-C000-000000000046").ToByteArray();

    /// <summary>A shortcut of parts, by the published format.</summary>
    private static byte[] Shortcut(uint flags, params byte[][] parts)
    {
        byte[] head = new byte[0x4C];
        BitConverter.TryWriteBytes(head, 0x4C);
        Class.CopyTo(head, 4);
        BitConverter.TryWriteBytes(head.AsSpan(20), flags);
        return [.. head, .. parts.SelectMany(p => p)];
    }

    private static byte[] Numbers(params int[] numbers) => [.. numbers.SelectMany(BitConverter.GetBytes)];

    private static byte[] NarrowInfo(string path, string suffix, int flags = 1) =>
        [.. Numbers(0x1C + path.Length + 1 + suffix.Length + 1, 0x1C, flags, 0, 0x1C, 0, 0x1C + path.Length + 1),
            .. Encoding.Latin1.GetBytes(path), 0, .. Encoding.Latin1.GetBytes(suffix), 0];

    private static byte[] Text(string text, bool wide) =>
        [.. BitConverter.GetBytes((ushort)text.Length), .. (wide ? Encoding.Unicode : Encoding.Latin1).GetBytes(text)];

    private static byte[] Environment(string path)
    {
        byte[] block = new byte[0x314];
        Numbers(0x314, unchecked((int)0xA0000001)).CopyTo(block, 0);
        Encoding.Unicode.GetBytes(path).CopyTo(block, 8 + 260);
        return block;
    }

    [Fact]
    public void A_shortcut_tells_its_target_and_arguments()
    {
        ShellLink.Read(Shortcut(0x2, NarrowInfo(@"C:\Program Files\", @"Ticket Printer\tray.exe"))).ShouldBe(new ShellLink(Target, ""));
        // A list of items before it, name, folder and icon around the arguments.
        ShellLink.Read(Shortcut(0x1 | 0x2 | 0x4 | 0x10 | 0x20 | 0x40 | 0x80, [3, 0, 9, 9, 9], NarrowInfo(Target, ""), Text("Tray", true),
            Text(@"C:\", true), Text("/quiet \u00e9", true), Text("tray.ico", true), Numbers(0))).ShouldBe(new ShellLink(Target, "/quiet \u00e9"));
        ShellLink.Read(Shortcut(0x2 | 0x20, NarrowInfo(Target, ""), Text("/n", false))).Arguments.ShouldBe("/n");
    }

    [Fact]
    public void A_shortcut_without_a_local_path_has_that_with_variables_or_none()
    {
        const string WithVariable = @"%ProgramFiles%\Gannet\plot.exe";
        ShellLink.Read(Shortcut(0, Numbers(12, 5, 0), Environment(WithVariable))).Target.ShouldBe(WithVariable);
        ShellLink.Read(Shortcut(0x2, NarrowInfo(Target, "", flags: 2), Numbers(0))).Target.ShouldBeNull();
        ShellLink.Read(Shortcut(0, Numbers(0))).ShouldBe(new ShellLink(null, ""));
        ShellLink.Read(Shortcut(0, Environment(""))).Target.ShouldBeNull();
    }

    [Fact]
    public void Cut_off_and_spoilt_shortcuts_are_refused_or_read_never_worse()
    {
        byte[] whole = Shortcut(0x1 | 0x2 | 0x20 | 0x80, [3, 0, 9, 9, 9], NarrowInfo(Target, ""), Text("/quiet", true), Environment("x"));
        var random = new Random(5);
        for (int length = 0; length < 0x4C + 100; length++)
            Try(whole[..length]);
        for (int i = 0; i < 20_000; i++)
        {
            byte[] spoilt = [.. whole];
            for (int n = random.Next(1, 5); n > 0; n--)
                spoilt[random.Next(0x14, 0x4C + 120)] = (byte)random.Next(256);
            Try(spoilt);
        }
        Should.Throw<InvalidDataException>(() => ShellLink.Read(whole[..0x4B]));
        whole[4] ^= 1;
        Should.Throw<InvalidDataException>(() => ShellLink.Read(whole));

        static void Try(byte[] content)
        {
            try
            {
                _ = ShellLink.Read(content);
            }
            catch (InvalidDataException)
            {
                // as it should be
            }
        }
    }

    private static byte[] Task(string inner) => [.. Encoding.Unicode.Preamble, .. Encoding.Unicode.GetBytes(
        "<?xml version=\"1.0\" encoding=\"UTF-16\"?>"
        + $"<Task version=\"1.2\" xmlns=\"http://schemas.microsoft.com/windows/2004/02/mit/task\">{inner}</Task>")];

    [Fact]
    public void A_task_tells_whose_it_is_when_it_starts_and_what()
    {
        var task = ScheduledTask.Read(Task("""
            <RegistrationInfo><Author>x</Author></RegistrationInfo>
            <Triggers><LogonTrigger><Enabled>true</Enabled></LogonTrigger></Triggers>
            <Principals><Principal id="Author"><UserId> S-1-5-21-7 </UserId><GroupId>S-1-5-32-545</GroupId></Principal></Principals>
            <Settings><Enabled>false</Enabled></Settings>
            <Actions Context="Author">
              <Exec><Command>"C:\Program Files\Gannet\update.exe"</Command><Arguments>/all</Arguments></Exec>
              <Exec><Command>C:\Tools\a.exe</Command></Exec><Exec><Arguments>/none</Arguments></Exec>
            </Actions>
            """));
        task.Principal.ShouldBe("S-1-5-21-7");
        task.StartsWithWindows.ShouldBeTrue();
        task.IsEnabled.ShouldBeFalse();
        task.Commands.ShouldBe(["\"C:\\Program Files\\Gannet\\update.exe\" /all", @"C:\Tools\a.exe"]);

        ScheduledTask.Read(Task("<Triggers><BootTrigger /></Triggers>")).StartsWithWindows.ShouldBeTrue();
        var other = ScheduledTask.Read(Task(
            "<Triggers><TimeTrigger><Enabled>false</Enabled></TimeTrigger></Triggers><Actions><Exec><Command>a.exe</Command></Exec>x</Actions>"));
        (other.Principal, other.StartsWithWindows, other.IsEnabled).ShouldBe(("", false, true));
        other.Commands.ShouldBe(["a.exe"]);
    }

    [Theory]
    [InlineData("")]
    [InlineData("<Task")]
    [InlineData("<Other/>")]
    [InlineData("<!DOCTYPE Task [<!ENTITY a 'b'>]><Task>&a;</Task>")]
    public void What_is_no_task_is_refused(string text) =>
        Should.Throw<InvalidDataException>(() => ScheduledTask.Read(Encoding.UTF8.GetBytes(text)));

    [Fact]
    public void A_task_that_is_nested_too_deeply_is_refused()
    {
        ScheduledTask.Read(Task(string.Concat(Enumerable.Repeat("<a>", 31)) + string.Concat(Enumerable.Repeat("</a>", 31)))).Commands.ShouldBeEmpty();
        Should.Throw<InvalidDataException>(() => ScheduledTask.Read(Task(string.Concat(Enumerable.Repeat("<a>", 32))
            + string.Concat(Enumerable.Repeat("</a>", 32)))));
    }
}
