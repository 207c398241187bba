using System.Management.Automation;

namespace Moorfield.Scripts.Tests;

// Stand-ins for the system's commands, with the parameters that are documented: a wrong one fails.

public abstract class MadeUpCommand : PSCmdlet
{
    internal MadeUpMachine Machine => MadeUpMachine.In(SessionState);

    private protected static PSObject Object(params (string Name, object? Value)[] properties)
    {
        var item = new PSObject();
        foreach (var (name, value) in properties)
            item.Properties.Add(new PSNoteProperty(name, value));
        return item;
    }

    /// <summary>Does something as commands do: a failure is an error that -ErrorAction decides about.</summary>
    private protected void Try(string target, Action act)
    {
        try
        {
            act();
        }
        catch (Exception e) when (e is MadeUpException or IOException)
        {
            WriteError(new ErrorRecord(e, "DeploymentError", ErrorCategory.WriteError, target));
        }
    }
}

[Cmdlet(VerbsCommon.Get, "AppxPackage")]
public sealed class GetAppxPackage : MadeUpCommand
{
    [Parameter(Position = 0)]
    public string? Name { get; set; }

    [Parameter(Position = 1)]
    public string? Publisher { get; set; }

    [Parameter]
    public SwitchParameter AllUsers { get; set; }

    [Parameter]
    public string? User { get; set; }

    [Parameter]
    public string? PackageTypeFilter { get; set; }

    protected override void ProcessRecord()
    {
        if (Machine.IsBroken)
            ThrowTerminatingError(new ErrorRecord(new InvalidOperationException("Der Dienst antwortet nicht."), "Broken",
                ErrorCategory.ResourceUnavailable, null));
        string[] types = (PackageTypeFilter ?? "Main,Framework").Split(',', StringSplitOptions.TrimEntries);
        foreach (var package in Machine.Packages)
        {
            if (Machine.Corrupt.Contains(package.FullName.Family.ToString())
                && (Name is null || new WildcardPattern(Name, WildcardOptions.IgnoreCase).IsMatch(package.FullName.Name)))
            {
                ThrowTerminatingError(new ErrorRecord(new InvalidOperationException("Das Paket ist fehlerhaft. 0x80073D05"), "Corrupt",
                    ErrorCategory.InvalidData, null));
            }
            string type = package.FullName.IsBundle ? "Bundle" : package.IsFramework ? "Framework" : package.IsResource ? "Resource"
                : package.IsOptional ? "Optional" : "Main";
            if (!types.Contains(type) || (Name is not null && !new WildcardPattern(Name, WildcardOptions.IgnoreCase).IsMatch(package.FullName.Name)))
                continue;
            WriteObject(Object(
                ("Name", package.FullName.Name), ("Version", package.FullName.Version.ToString()), ("Architecture", package.FullName.Architecture),
                ("ResourceId", package.FullName.ResourceId), ("PackageFullName", package.FullName.ToString()),
                ("PackageFamilyName", package.FullName.Family.ToString()), ("InstallLocation", package.Place), ("IsFramework", package.IsFramework),
                ("IsBundle", package.FullName.IsBundle), ("IsResourcePackage", package.IsResource), ("NonRemovable", package.NonRemovable),
                ("SignatureKind", package.IsComponent ? "System" : "Store"), ("Status", "Ok"),
                ("Dependencies", package.Needs.SelectMany(n => Machine.Packages.Where(p => p.FullName.Name == n))
                    .Select(p => Object(("PackageFullName", p.FullName.ToString()), ("PackageFamilyName", p.FullName.Family.ToString()))).ToArray()),
                ("PackageUserInformation", package.Users.Concat(package.Leaving).Order(StringComparer.Ordinal)
                    .Select(u => Object(("UserSecurityId", Object(("Sid", u), ("Username", "?"))), ("InstallState", State(package, u))))
                    .DefaultIfEmpty(Object(("UserSecurityId", Object(("Sid", "S-1-5-18"), ("Username", "?"))), ("InstallState", "Staged")))
                        .ToArray())));
        }
    }

    private string State(MadeUpPackage package, string sid) => package.States.GetValueOrDefault(sid)
        ?? (package.Leaving.Contains(sid) && Machine.TellsDeferred ? "Installed(pending removal)" : "Installed");
}

/// <summary>As old builds have it.</summary>
[Cmdlet(VerbsCommon.Remove, "AppxPackage")]
public class RemoveAppxPackageOld : MadeUpCommand
{
    [Parameter(Mandatory = true, Position = 0, ValueFromPipelineByPropertyName = true)]
    public string Package { get; set; } = "";

    [Parameter]
    public SwitchParameter PreserveApplicationData { get; set; }

    protected override void ProcessRecord() => Remove(null, allUsers: false);

    private protected void Remove(string? sid, bool allUsers)
    {
        Machine.Tell($"Remove-AppxPackage {Package}{(allUsers ? " -AllUsers" : "")}{(sid is null ? "" : $" -User {sid}")}");
        Try(Package, () => Machine.RemovePackage(Package, sid, allUsers));
    }
}

[Cmdlet(VerbsCommon.Remove, "AppxPackage")]
public sealed class RemoveAppxPackage : RemoveAppxPackageOld
{
    [Parameter]
    public SwitchParameter AllUsers { get; set; }

    [Parameter]
    public string? User { get; set; }

    protected override void ProcessRecord() => Remove(User, AllUsers);
}

[Cmdlet(VerbsCommon.Add, "AppxPackage")]
public sealed class AddAppxPackage : MadeUpCommand
{
    [Parameter(Mandatory = true, Position = 0)]
    public string Path { get; set; } = "";

    [Parameter]
    public SwitchParameter Register { get; set; }

    [Parameter]
    public SwitchParameter DisableDevelopmentMode { get; set; }

    protected override void ProcessRecord()
    {
        Machine.Tell($"Add-AppxPackage {Path}");
        Try(Path, () => Machine.Register(Path, Machine.Runner));
    }
}

[Cmdlet(VerbsCommon.Get, "AppxProvisionedPackage")]
public sealed class GetAppxProvisionedPackage : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public SwitchParameter Online { get; set; }

    protected override void ProcessRecord()
    {
        if (Machine.IsBroken)
            ThrowTerminatingError(new ErrorRecord(new InvalidOperationException("Der Dienst antwortet nicht."), "Broken",
                ErrorCategory.ResourceUnavailable, null));
        foreach (string name in Machine.Provisioned)
            WriteObject(Object(("PackageName", name), ("DisplayName", name.Split('_')[0]), ("Version", name.Split('_')[1]), ("Architecture", 9)));
    }
}

[Cmdlet(VerbsCommon.Remove, "AppxProvisionedPackage")]
public class RemoveAppxProvisionedPackageOld : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public SwitchParameter Online { get; set; }

    [Parameter(Mandatory = true)]
    public string PackageName { get; set; } = "";

    protected override void ProcessRecord() => Remove(allUsers: false);

    private protected void Remove(bool allUsers)
    {
        Machine.Tell($"Remove-AppxProvisionedPackage {PackageName}{(allUsers ? " -AllUsers" : "")}");
        Try(PackageName, () => Machine.RemoveProvisioned(PackageName, allUsers));
    }
}

[Cmdlet(VerbsCommon.Remove, "AppxProvisionedPackage")]
public sealed class RemoveAppxProvisionedPackage : RemoveAppxProvisionedPackageOld
{
    [Parameter]
    public SwitchParameter AllUsers { get; set; }

    protected override void ProcessRecord() => Remove(AllUsers);
}

[Cmdlet(VerbsCommon.Get, "StartApps")]
public sealed class GetStartApps : MadeUpCommand
{
    [Parameter(Position = 0)]
    public string? Name { get; set; }

    protected override void ProcessRecord()
    {
        foreach (var (app, name) in Machine.StartNames)
            WriteObject(Object(("Name", name), ("AppID", app)));
    }
}

[Cmdlet("Checkpoint", "Computer")]
public sealed class CheckpointComputer : MadeUpCommand
{
    [Parameter(Mandatory = true, Position = 0)]
    public string Description { get; set; } = "";

    [Parameter(Position = 1)]
    public string? RestorePointType { get; set; }

    protected override void ProcessRecord()
    {
        Machine.Tell("Checkpoint-Computer");
        if (!Machine.HasProtection)
        {
            WriteError(new ErrorRecord(new InvalidOperationException("Der Systemschutz ist aus."), "Disabled", ErrorCategory.InvalidOperation, null));
            return;
        }
        // A warning is all that one hears when the last is younger than a day. [doc]
        if (Machine.RestorePoints.Any(p => (Machine.Now - p.Time).TotalMinutes < 1440))
            WriteWarning("Es wurde kein neuer Wiederherstellungspunkt erstellt.");
        else
            Machine.RestorePoints.Add((Machine.RestorePoints.Count + 41, Machine.Now));
    }
}

[Cmdlet(VerbsCommon.Get, "ComputerRestorePoint")]
public sealed class GetComputerRestorePoint : MadeUpCommand
{
    protected override void ProcessRecord()
    {
        foreach (var (number, time) in Machine.RestorePoints)
            WriteObject(Object(("SequenceNumber", number), ("CreationTime", time.ToString("yyyyMMddHHmmss.000000-000"))));
    }
}

/// <summary>Stands behind the name reg.exe.</summary>
[Cmdlet(VerbsLifecycle.Invoke, "MadeUpReg")]
public sealed class InvokeMadeUpReg : MadeUpCommand
{
    [Parameter(ValueFromRemainingArguments = true)]
    public string[] Arguments { get; set; } = [];

    protected override void ProcessRecord()
    {
        var (code, lines) = Machine.Reg(Arguments);
        SessionState.PSVariable.Set("global:LASTEXITCODE", code);
        WriteObject(lines, enumerateCollection: true);
    }
}

[Cmdlet(VerbsLifecycle.Register, "ScheduledTask")]
public sealed class RegisterScheduledTask : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public string TaskPath { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string TaskName { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string Xml { get; set; } = "";

    [Parameter]
    public SwitchParameter Force { get; set; }

    protected override void ProcessRecord()
    {
        Machine.Tell($"Register-ScheduledTask {TaskName}");
        _ = System.Xml.Linq.XDocument.Parse(Xml);
        Machine.Tasks[TaskPath + TaskName] = Xml;
    }
}

[Cmdlet(VerbsLifecycle.Unregister, "ScheduledTask", SupportsShouldProcess = true, ConfirmImpact = ConfirmImpact.High)]
public sealed class UnregisterScheduledTask : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public string TaskPath { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string TaskName { get; set; } = "";

    protected override void ProcessRecord()
    {
        if (!ShouldProcess(TaskName))
            return;
        Machine.Tell($"Unregister-ScheduledTask {TaskName}");
        Machine.Tasks.Remove(TaskPath + TaskName);
    }
}

[Cmdlet(VerbsCommon.Get, "ScheduledTask")]
public sealed class GetScheduledTask : MadeUpCommand
{
    [Parameter]
    public string TaskPath { get; set; } = "";

    [Parameter]
    public string TaskName { get; set; } = "";

    protected override void ProcessRecord()
    {
        if (Machine.Tasks.ContainsKey(TaskPath + TaskName))
            WriteObject(Object(("TaskName", TaskName), ("State", Machine.StateOf(TaskPath + TaskName))));
        else
            WriteError(new ErrorRecord(new ItemNotFoundException(TaskName), "NoTask", ErrorCategory.ObjectNotFound, TaskName));
    }
}

[Cmdlet(VerbsLifecycle.Start, "ScheduledTask")]
public sealed class StartScheduledTask : MadeUpCommand
{
    [Parameter]
    public string TaskPath { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string TaskName { get; set; } = "";

    protected override void ProcessRecord()
    {
        Machine.Tell($"Start-ScheduledTask {TaskName}");
        int runs = Machine.Runs;
        Machine.RunTask(TaskPath + TaskName);
        Machine.Runs = runs; // the one that started it goes on, and is told from others by this
    }
}

[Cmdlet(VerbsCommon.Get, "Acl")]
public sealed class GetAcl : MadeUpCommand
{
    [Parameter]
    public string LiteralPath { get; set; } = "";

    protected override void ProcessRecord() => WriteObject(Object(("Sddl", Machine.Rights.GetValueOrDefault(LiteralPath.TrimEnd('\\'),
        "O:SYG:SYD:PAI(A;;0x1200a9;;;BU)(A;OICIIO;GXGR;;;BU)(A;;FA;;;SY)(A;;FA;;;BA)"))));
}

[Cmdlet(VerbsCommon.Get, "Process")]
public sealed class GetProcess : MadeUpCommand
{
    [Parameter]
    public int Id { get; set; }

    protected override void ProcessRecord()
    {
        if (Id == Environment.ProcessId)
            WriteObject(Object(("Id", Id), ("StartTime", new DateTime(2026, 10, 5).AddSeconds(Machine.Runs))));
        else if (Machine.Processes.TryGetValue(Id, out var start))
            WriteObject(Object(("Id", Id), ("StartTime", start)));
        else
            WriteError(new ErrorRecord(new InvalidOperationException("Kein Prozess."), "NoProcess", ErrorCategory.ObjectNotFound, Id));
    }
}

[Cmdlet(VerbsCommon.New, "EventLog")]
public sealed class NewEventLog : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public string LogName { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string Source { get; set; } = "";
}

[Cmdlet(VerbsCommunications.Write, "EventLog")]
public sealed class WriteEventLog : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public string LogName { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string Source { get; set; } = "";

    [Parameter(Mandatory = true)]
    public int EventId { get; set; }

    [Parameter]
    public string EntryType { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string Message { get; set; } = "";

    protected override void ProcessRecord() => Machine.Events.Add((EventId, Message));
}

[Cmdlet(VerbsLifecycle.Start, "Process")]
public sealed class StartProcess : MadeUpCommand
{
    [Parameter(Mandatory = true, Position = 0)]
    public string FilePath { get; set; } = "";

    [Parameter(Position = 1)]
    public string ArgumentList { get; set; } = "";

    [Parameter]
    public SwitchParameter NoNewWindow { get; set; }

    [Parameter]
    public string? WindowStyle { get; set; }

    [Parameter]
    public SwitchParameter Wait { get; set; }

    [Parameter]
    public SwitchParameter PassThru { get; set; }

    protected override void ProcessRecord()
    {
        Machine.Tell($"Start-Process {FilePath} {ArgumentList}");
        if (!Machine.Programs.TryGetValue(FilePath, out var program))
        {
            WriteError(new ErrorRecord(new FileNotFoundException(FilePath), "NotFound", ErrorCategory.ObjectNotFound, FilePath));
            return;
        }
        int result = program(ArgumentList);
        // -1 is one that does not end, the least number one that says nothing.
        WriteObject(Object(("ExitCode", result == int.MinValue ? null : result), ("HasExited", result != -1), ("Id", 4711), ("Handle", 1)));
    }
}

[Cmdlet(VerbsLifecycle.Wait, "Process")]
public sealed class WaitProcess : MadeUpCommand
{
    [Parameter(ValueFromPipeline = true)]
    public PSObject? InputObject { get; set; }

    [Parameter]
    public int Timeout { get; set; }

    protected override void ProcessRecord()
    {
        if (InputObject?.Properties["HasExited"].Value is not false)
            return;
        Machine.Now += TimeSpan.FromSeconds(Timeout);
        WriteError(new ErrorRecord(new TimeoutException(), "Timeout", ErrorCategory.OperationTimeout, null));
    }
}

[Cmdlet(VerbsLifecycle.Stop, "Process")]
public sealed class StopProcess : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public int Id { get; set; }

    [Parameter]
    public SwitchParameter Force { get; set; }

    protected override void ProcessRecord() => Machine.Tell($"Stop-Process {Id}");
}

[Cmdlet(VerbsLifecycle.Start, "Sleep")]
public sealed class StartSleep : MadeUpCommand
{
    [Parameter(Mandatory = true, Position = 0)]
    public int Seconds { get; set; }

    protected override void ProcessRecord() => Machine.Now += TimeSpan.FromSeconds(Seconds);
}

[Cmdlet(VerbsLifecycle.Invoke, "WebRequest")]
public sealed class InvokeWebRequest : MadeUpCommand
{
    [Parameter(Mandatory = true)]
    public string Uri { get; set; } = "";

    [Parameter(Mandatory = true)]
    public string OutFile { get; set; } = "";

    [Parameter]
    public SwitchParameter UseBasicParsing { get; set; }

    [Parameter]
    public int TimeoutSec { get; set; }

    [Parameter]
    public int MaximumRedirection { get; set; }

    [Parameter]
    public string? Proxy { get; set; }

    protected override void ProcessRecord()
    {
        Machine.Tell($"Invoke-WebRequest {Uri}{(Proxy is null ? "" : $" by {Proxy}")}");
        Machine.Fetched.Add(OutFile);
        if (Machine.Web.TryGetValue(Uri, out var content))
            File.WriteAllBytes(Machine.At(OutFile), content);
        else
            ThrowTerminatingError(new ErrorRecord(new HttpRequestException("Der Server antwortet nicht."), "Web", ErrorCategory.ConnectionError,
                Uri));
    }
}
