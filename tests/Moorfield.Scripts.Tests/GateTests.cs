using System.Globalization;
using System.Management.Automation;
using System.Management.Automation.Language;
using System.Management.Automation.Runspaces;
using System.Text;
using System.Text.RegularExpressions;
using CsCheck;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

/// <summary>Holds what the 5.1 shell can do against the syntax of every generated script: only commands and parameters that are known here.</summary>
public sealed class GateTests
{
    /*
       Commands of the 5.1 shell and of its modules for packages, tasks, restore points and events, with those of their parameters that are used
       here, from the public documentation as it is known [doc]; those marked [seen] are reported only. = takes a value (one of those named),
       ! must be given, #N takes so many values by position. Not run there by anybody here.
    */
    internal static readonly Dictionary<string, string> Commands = new(StringComparer.OrdinalIgnoreCase)
    {
        ["Add-AppxPackage"] = "Register! Path=! DisableDevelopmentMode",
        ["Add-Content"] = "LiteralPath=! Value=! Encoding=Ascii|UTF8|Unicode",
        ["Copy-Item"] = "LiteralPath=! Destination= Force Recurse",
        ["Checkpoint-Computer"] = "Description=! RestorePointType=APPLICATION_INSTALL|APPLICATION_UNINSTALL|MODIFY_SETTINGS",
        ["ConvertFrom-Json"] = "#1",
        ["ForEach-Object"] = "#1",
        ["Get-Acl"] = "LiteralPath=!",
        ["Get-AppxPackage"] = "AllUsers Name= PackageTypeFilter=",
        ["Get-AppxProvisionedPackage"] = "Online!",
        ["Get-ChildItem"] = "LiteralPath=! Force Directory File Recurse ErrorAction=SilentlyContinue|Stop ErrorVariable=",
        ["Get-Command"] = "ErrorAction=SilentlyContinue #1",
        ["Get-ComputerRestorePoint"] = "",
        ["Get-Content"] = "LiteralPath=! Raw Encoding=Ascii|UTF8|Unicode ErrorAction=SilentlyContinue",
        ["Get-FileHash"] = "LiteralPath=! Algorithm=SHA256",
        ["Get-Item"] = "LiteralPath=! Force ErrorAction=SilentlyContinue ErrorVariable=",
        ["Get-ItemProperty"] = "LiteralPath=! ErrorAction=SilentlyContinue",
        ["Get-Process"] = "Id= ErrorAction=SilentlyContinue",
        ["Get-ScheduledTask"] = "TaskPath= TaskName= ErrorAction=SilentlyContinue",
        ["Get-StartApps"] = "",
        ["Invoke-WebRequest"] = "Uri=! OutFile= UseBasicParsing TimeoutSec= MaximumRedirection= Proxy=",
        ["Move-Item"] = "LiteralPath=! Destination= Force",
        ["New-EventLog"] = "LogName=! Source=! ErrorAction=SilentlyContinue",
        ["New-Item"] = "Path=! ItemType=Directory|File Value=",
        ["New-ItemProperty"] = "LiteralPath=! Name=! PropertyType= Value= Force",
        ["Register-ScheduledTask"] = "TaskPath= TaskName=! Xml=! Force",
        ["Remove-AppxPackage"] = "Package=! AllUsers User=", // the last two by build, and asked for
        ["Remove-AppxProvisionedPackage"] = "Online! PackageName=! AllUsers", // the last by build, and asked for
        ["Remove-Item"] = "LiteralPath=! Recurse Force ErrorAction=SilentlyContinue",
        ["Remove-ItemProperty"] = "LiteralPath=! Name=!",
        ["Select-Object"] = "First= Skip= SkipLast= Unique",
        ["Set-Content"] = "LiteralPath=! Value=! Encoding=Ascii|UTF8|Unicode NoNewline",
        ["Sort-Object"] = "Property= Descending Unique #1",
        ["Start-Process"] = "FilePath=! ArgumentList= NoNewWindow Wait PassThru WindowStyle=Hidden|Normal",
        ["Start-ScheduledTask"] = "TaskPath= TaskName=!",
        ["Start-Sleep"] = "Seconds=!",
        ["Stop-Process"] = "Id=! Force ErrorAction=SilentlyContinue",
        ["Test-Path"] = "LiteralPath=!",
        ["Unregister-ScheduledTask"] = "TaskPath= TaskName=! Confirm",
        ["Wait-Process"] = "Timeout= ErrorAction=SilentlyContinue",
        ["Where-Object"] = "#1",
        ["Write-EventLog"] = "LogName=! Source=! EventId=! EntryType=Information|Warning|Error Message=!",
        ["Write-Output"] = "#1",
    };

    // Types whose members constrained language mode allows, and the one that is used outside of it only. [doc]
    private static readonly string[] Types =
        ["string", "string[]", "int", "uint32", "long", "uint64", "bool", "char", "byte[]", "array", "regex", "datetime", "cultureinfo", "guid", "switch",
            "Net.ServicePointManager"];

    // Of texts. IndexOf does so with a text, and does not with a letter.
    private static readonly string[] Cultured =
        ["StartsWith", "EndsWith", "ToLower", "ToUpper", "CompareTo", "Compare", "IndexOf", "LastIndexOf", "ToShortDateString"];

    public static IEnumerable<TheoryDataRow<string>> Names =>
        new[] { "survey", HandOverFiles.Remediate, HandOverFiles.Detect, HandOverFiles.Undo, HandOverFiles.Check }.Select(n => new TheoryDataRow<string>(n));

    internal static byte[] Script(string name, HandOverPlan? plan = null) => name == "survey" ? SurveyScript.Write(KnownGuards.All)
        : HandOverFiles.Write(plan ?? Scenarios.Plan(["*"], true, Demo.World.Family("Northlight.Weather")) with { Guards = [.. KnownGuards.All.Where(g => !g.IsAbsence)] })
            .Single(f => f.Name == name).Content;

    internal static List<string> Wrong(byte[] script)
    {
        var wrong = new List<string>();
        if (!script.AsSpan().StartsWith(Encoding.UTF8.Preamble) || script[3..].Any(b => b is not (13 or 10 or (>= 32 and <= 126))))
            wrong.Add("not ASCII behind a byte order mark");
        string text = Encoding.UTF8.GetString(script)[1..];
        if (Regex.IsMatch(text, "(?<!\r)\n", RegexOptions.None, TimeSpan.FromSeconds(5)))
            wrong.Add("lines end otherwise than in CR LF");
        var tree = Parser.ParseInput(text, out var tokens, out var errors);
        wrong.AddRange(errors.Select(e => $"{e.Extent.StartLineNumber}: {e.Message}"));
        wrong.AddRange(tokens.Where(t => t.Kind is TokenKind.QuestionQuestion or TokenKind.QuestionQuestionEquals or TokenKind.QuestionDot
            or TokenKind.QuestionLBracket or TokenKind.QuestionMark or TokenKind.AndAnd or TokenKind.OrOr or TokenKind.Clean)
            .Select(t => $"{t.Extent.StartLineNumber}: {t.Text}"));
        wrong.AddRange(tokens.OfType<NumberToken>().Where(t => !Regex.IsMatch(t.Text, "^(?:-?[0-9]+|0x[0-9A-Fa-f]+)$", RegexOptions.None,
            TimeSpan.FromSeconds(1))).Select(t => $"{t.Extent.StartLineNumber}: the number {t.Text}"));
        wrong.AddRange(tokens.OfType<StringExpandableToken>().Where(t => t.Kind == TokenKind.StringExpandable && (t.Text.Contains('$',
            StringComparison.Ordinal)
            || Regex.IsMatch(t.Text, "`[^nrt0\"`]", RegexOptions.None, TimeSpan.FromSeconds(1)))).Select(t
                => $"{t.Extent.StartLineNumber}: {t.Text}"));
        var functions = tree.FindAll(a => a is FunctionDefinitionAst, true).Cast<FunctionDefinitionAst>()
            .ToDictionary(f => f.Name, f => (f.Parameters ?? f.Body.ParamBlock?.Parameters)?.Select(p => p.Name.VariablePath.UserPath)
                .ToArray() ?? [],
                StringComparer.OrdinalIgnoreCase);
        foreach (var node in tree.FindAll(_ => true, true))
        {
            if (Trouble(node, functions) is { } error)
                wrong.Add($"{node.Extent.StartLineNumber}: {error}: {node.Extent.Text.Split('\n')[0]}");
        }
        return wrong;
    }

    private static string? Trouble(Ast node, Dictionary<string, string[]> functions) => node switch
    {
        TernaryExpressionAst or PipelineChainAst or TypeDefinitionAst or UsingStatementAst or DynamicKeywordStatementAst
            => "not in 5.1, or not wanted",
        PipelineAst { Background: true } => "in the background",
        ScriptBlockAst { CleanBlock: not null } => "clean",
        // The system's own program for the registry, by its full path.
        CommandAst { InvocationOperator: TokenKind.Ampersand, Extent.Text: "& $Reg @Words 2>$null" } => null,
        AssignmentStatementAst { Left: VariableExpressionAst { VariablePath.UserPath: "Reg" } } set
            when set.Right.Extent.Text != @"$env:SystemRoot + '\System32\reg.exe'" => "another program for the registry",
        CommandAst { InvocationOperator: not TokenKind.Unknown } => "a computed or dotted call",
        CommandAst command when command.GetCommandName() is not { } name => "a computed command",
        CommandAst command => OfCommand(command, functions),
        InvokeMemberExpressionAst { GenericTypeArguments.Count: > 0 } => "generic arguments",
        BinaryExpressionAst { Operator: TokenKind.Ireplace or TokenKind.Creplace, Right: ScriptBlockExpressionAst } => "-replace with a block",
        BinaryExpressionAst { Operator: TokenKind.Ireplace or TokenKind.Creplace, Right: ArrayLiteralAst { Elements: var e } }
            when e.Any(x => x is ScriptBlockExpressionAst) => "-replace with a block",
        TypeExpressionAst type when !Types.Contains(type.TypeName.FullName, StringComparer.OrdinalIgnoreCase) => "a type that is not allowed",
        TypeConstraintAst type when !Types.Contains(type.TypeName.FullName, StringComparer.OrdinalIgnoreCase) => "a type that is not allowed",
        VariableExpressionAst variable when variable.VariablePath.UserPath
            is "IsWindows" or "IsLinux" or "IsMacOS" or "IsCoreCLR" or "args" or "input"
            => "a variable that 5.1 lacks, or that is not wanted",
        InvokeMemberExpressionAst { Member: not StringConstantExpressionAst } => "a computed method",
        InvokeMemberExpressionAst { Member: StringConstantExpressionAst { Value: var method } } when Cultured.Contains(method,
            StringComparer.OrdinalIgnoreCase) => "a method that goes by the machine's language",
        _ => null,
    };

    private static string? OfCommand(CommandAst command, Dictionary<string, string[]> functions)
    {
        string name = command.GetCommandName();
        if (functions.TryGetValue(name, out string[]? own))
        {
            return command.CommandElements.OfType<CommandParameterAst>().FirstOrDefault(p => !own.Contains(p.ParameterName,
                StringComparer.OrdinalIgnoreCase)) is { } unknown ? $"a parameter that is not known here, {unknown.ParameterName}," : null;
        }
        return Commands.TryGetValue(name, out string? known) ? Bound(command, known) : "a command that is not known here";
    }

    /// <summary>Binds a call to what is known of its command, as the shell would; the trouble, or null.</summary>
    private static string? Bound(CommandAst command, string known)
    {
        var parameters = known.Split(' ', StringSplitOptions.RemoveEmptyEntries).Where(p => p[0] != '#')
            .ToDictionary(p => p.Split('=')[0].TrimEnd('!'), StringComparer.OrdinalIgnoreCase);
        int byPosition = known.Contains('#', StringComparison.Ordinal) ? int.Parse(known[(known.IndexOf('#', StringComparison.Ordinal) + 1)..], CultureInfo.InvariantCulture) : 0;
        var given = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var elements = command.CommandElements.Skip(1).ToList();
        for (int i = 0; i < elements.Count; i++)
        {
            if (elements[i] is not CommandParameterAst parameter)
            {
                if (--byPosition < 0)
                    return "a value for no parameter";
                continue;
            }
            string name = parameter.ParameterName;
            if (!parameters.TryGetValue(name, out string? form))
                return $"a parameter that is not known here, {name},";
            if (!given.Add(name))
                return $"the parameter {name} twice";
            if (!form.Contains('=', StringComparison.Ordinal))
                continue; // a switch
            Ast? value = parameter.Argument ?? (i + 1 < elements.Count && elements[i + 1] is not CommandParameterAst ? elements[++i] : null);
            if (value is null)
                return $"no value for {name}";
            string[] allowed = form[(form.IndexOf('=', StringComparison.Ordinal) + 1)..].TrimEnd('!').Split('|', StringSplitOptions.RemoveEmptyEntries);
            if (allowed.Length > 0 && value is StringConstantExpressionAst text && !allowed.Contains(text.Value, StringComparer.OrdinalIgnoreCase))
                return $"a value that {name} does not have";
        }
        return parameters.FirstOrDefault(p => p.Value.EndsWith('!') && !given.Contains(p.Key)).Key is { } missing ? $"without {missing}" : null;
    }

    [Theory]
    [MemberData(nameof(Names))]
    public void Every_script_passes_the_gate_for_the_old_shell(string name) => Wrong(Script(name)).ShouldBeEmpty();

    [Theory]
    [InlineData("$a ? 1 : 2")]
    [InlineData("$a ?? 1")]
    [InlineData("Get-Item -LiteralPath x && Get-Item -LiteralPath y")]
    [InlineData("Get-Item -LiteralPath x &")]
    [InlineData("Invoke-Expression 'x'")]
    [InlineData("& $a")]
    [InlineData(". 'x.ps1'")]
    [InlineData("Get-Item -LiteralPath x -Stream y")]
    [InlineData("Get-Item x -Path")]
    [InlineData("'a' -replace 'b', { $_ }")]
    [InlineData("[System.IO.File]::ReadAllText('x')")]
    [InlineData("class A { }")]
    [InlineData("$IsWindows")]
    [InlineData("0b11")]
    [InlineData("10u")]
    [InlineData("\"`e\"")]
    [InlineData("\"a $b\"")]
    [InlineData("$a.$b()")]
    [InlineData("Get-Item -LiteralPath")]
    [InlineData("Get-Item -Force")]
    [InlineData("Get-Item x")]
    [InlineData("Set-Content -LiteralPath x -Value y -Encoding utf8NoBOM")]
    [InlineData("Remove-Item -LiteralPath x -Recurse -Recurse")]
    [InlineData("Get-FileHash -LiteralPath x -Algorithm SHA3")]
    [InlineData("$a.StartsWith('x')")]
    [InlineData("& $Reg query HKU")]
    [InlineData("$Reg = 'x.exe'")]
    public void The_gate_refuses_what_it_should(string code) =>
        Wrong([.. Encoding.UTF8.Preamble, .. Encoding.ASCII.GetBytes(code + "\r\n")]).ShouldNotBeEmpty();

    /// <summary>The pair that a management service is given can be read by one person in an hour.</summary>
    [Fact]
    public void The_fixed_code_of_the_pair_stays_short()
    {
        string[] code =
        [
            .. new[] { "common.ps1", HandOverFiles.Detect, HandOverFiles.Remediate }
                .SelectMany(n => File.ReadAllLines(Path.Combine(SurveyTests.Root(), "src/Moorfield.Core/HandOver", n)))
                .Where(l => l.Trim() is { Length: > 0 } text && !text.StartsWith('#')),
        ];
        code.Length.ShouldBeLessThan(900);
        code.ShouldAllBe(l => l.Length <= 180);
    }

    /// <summary>Names from a target, as bad as they can be: the script has the same commands whatever they are.</summary>
    [Fact]
    public void Hostile_names_are_data_and_nothing_else()
    {
        var letters = Gen.OneOf(
            Among('\'', '"', '`', '$', '(', ')', ';', '{', '}', '#', '@', '\n', '\r', '\0', '\u2018', '\u2019', '\u201a', '\u201b', '\u201c',
                '\u201d', '\u2028', '\u0085', '\ufeff', '\u00a0', '%', '&', '|', '<', '>', ',', '-', '\\', '[', ']', '*', '?'),
            Gen.Char);
        var hostile = letters.Array[0, 40].Select(c => new string(c));
        var sayings = Among("'; Remove-Item C:\\ -Recurse; '", "\u2019; calc; \u2019", "$(calc)", "#> calc <#", "'@\ncalc\n@'", "@{a=1}");
        string family = Demo.World.Family("Northlight.Weather");
        string[] plain = Calls(Script(HandOverFiles.Remediate, Plan("x", "x", "x")));
        Gen.Select(Gen.OneOf(hostile, sayings), Gen.OneOf(hostile, sayings), Gen.OneOf(hostile, sayings)).Sample((title, account, data) =>
        {
            byte[] script = Script(HandOverFiles.Remediate, Plan(title, account, data));
            Wrong(script).ShouldBeEmpty();
            Calls(script).ShouldBe(plain);
            Titles(script).ShouldBe([title, account, data.Replace("\0", "", StringComparison.Ordinal), title]);
        }, iter: 300, threads: 1);

        HandOverPlan Plan(string title, string account, string data) => Scenarios.Plan(["*"], true, family) with
        {
            Accounts = [account],
            Remove = [new HandOverPackage(Scenarios.Plan([], false, family).Remove[0].Family, title, false)],
            Guards = [new Guard(null, GuardHive.Machine, @"Policies\Saltmarsh", HiveValue.FromString("Text", data.Replace("\0", "",
                StringComparison.Ordinal)),
                null, null)],
            Programs = [new DesktopProgram(title, "", "", 0, null, null) { Key = @"Uninstall\X" }],
        };
    }

    private static Gen<T> Among<T>(params T[] items) => Gen.Int[0, items.Length - 1].Select(i => items[i]);

    private static string[] Calls(byte[] script) =>
    [
        .. Parser.ParseInput(Encoding.UTF8.GetString(script), out _, out _).FindAll(a => a is CommandAst or InvokeMemberExpressionAst, true)
            .Select(a => a.Extent.Text),
    ];

    /// <summary>The texts of the data as the shell itself makes them of the literals.</summary>
    private static string[] Titles(byte[] script)
    {
        string text = Encoding.UTF8.GetString(script);
        string data = text[text.IndexOf("$PlanId", StringComparison.Ordinal)..text.IndexOf("# ---- Code", StringComparison.Ordinal)];
        using var shell = PowerShell.Create(InitialSessionState.CreateDefault2());
        shell.AddScript(data + "\n$Remove[0].Title; $Accounts[0]; $Guards[0].Data; $Programs[0].Title");
        string[] found = [.. shell.Invoke().Select(o => (string)o.BaseObject)];
        shell.Streams.Error.ShouldBeEmpty();
        return found;
    }
}
