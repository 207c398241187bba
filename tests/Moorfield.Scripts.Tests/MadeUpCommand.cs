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
                ("PackageUserInformation", package.Users.Order(StringComparer.Ordinal)
                    .Select(u => Object(("UserSecurityId", Object(("Sid", u), ("Username", "?"))), ("InstallState", "Installed")))
                    .DefaultIfEmpty(Object(("UserSecurityId", Object(("Sid", "S-1-5-18"), ("Username", "?"))), ("InstallState", "Staged")))
                        .ToArray())));
        }
    }
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
        Try(Path, () => Machine.Register(Path, Machine.Accounts[0].Sid));
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

    protected override void ProcessRecord() =>
        SessionState.PSVariable.Set("global:LASTEXITCODE", Machine.Reg(Arguments));
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
        // -1 is one that does not end.
        WriteObject(Object(("ExitCode", result), ("HasExited", result != -1), ("Id", 4711), ("Handle", 1)));
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

    protected override void ProcessRecord()
    {
        Machine.Tell($"Invoke-WebRequest {Uri}");
        if (Machine.Web.TryGetValue(Uri, out var content))
            File.WriteAllBytes(Machine.At(OutFile), content);
        else
            ThrowTerminatingError(new ErrorRecord(new HttpRequestException("Der Server antwortet nicht."), "Web", ErrorCategory.ConnectionError,
                Uri));
    }
}
