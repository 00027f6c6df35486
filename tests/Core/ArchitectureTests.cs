using System.Xml.Linq;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Core.Tests;

/// <summary>Data runs one way through the house: nothing lower knows anything higher.</summary>
public sealed class ArchitectureTests
{
    [Theory]
    [InlineData("Proofs", "")]
    [InlineData("Core", "Proofs")]
    [InlineData("Ldap", "")]
    [InlineData("Scim", "")]
    [InlineData("Contracts", "")]
    [InlineData("Store", "Core")]
    [InlineData("Sources", "Core")]
    [InlineData("Targets", "Core Ldap")]
    [InlineData("Cli", "Contracts Proofs")]
    [InlineData("Service", "Contracts Core Scim Sources Store Targets")]
    public void A_project_knows_only_what_stands_below_it(string project, string known)
    {
        var file = XDocument.Load(Repository.At("src", $"Oikonom.{project}", $"Oikonom.{project}.csproj"));
        var references = file.Descendants("ProjectReference")
            .Select(r => Path.GetFileNameWithoutExtension(r.Attribute("Include")!.Value)["Oikonom.".Length..])
            .Order(StringComparer.Ordinal);
        Assert.Equal(known, string.Join(' ', references));
    }

    [Theory]
    [InlineData(
        "Core",
        "System.IO.File|Directory.|HttpClient|DateTime.Now|DateTime.UtcNow|DateTimeOffset.Now|DateTimeOffset.UtcNow|Console."
    )]
    [InlineData("Service", "DateTime.Now|DateTime.UtcNow|DateTimeOffset.Now|DateTimeOffset.UtcNow")]
    [InlineData("Store", "DateTime.Now|DateTime.UtcNow|DateTimeOffset.Now|DateTimeOffset.UtcNow")]
    public void Time_and_the_world_come_from_outside(string project, string forbidden)
    {
        var found = Directory
            .GetFiles(Repository.At("src", $"Oikonom.{project}"), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal))
            .SelectMany(f =>
                File.ReadAllLines(f)
                    .Where(line => forbidden.Split('|').Any(word => line.Contains(word, StringComparison.Ordinal)))
                    .Select(line => $"{Path.GetFileName(f)}: {line.Trim()}")
            );
        Assert.Empty(found);
    }

    /// <summary>A room that comes to know another one is a decision: it is written here, and never by accident.</summary>
    [Theory]
    [InlineData("Access", "Fulfilment Hosting Notices People Rulebook")]
    [InlineData("Approval", "Access Desk Fulfilment Hosting Intake Notices People Planning Rulebook")]
    [InlineData("Desk", "Access Hosting Rulebook")]
    [InlineData("Fulfilment", "Access Approval Desk Hosting Intake Notices People Planning Rulebook")]
    [InlineData("Intake", "Access Fulfilment Hosting Planning Rulebook Scim")]
    [InlineData("Ledger", "Access Hosting Rulebook")]
    [InlineData("Live", "Access Hosting")]
    [InlineData("Notices", "Access Hosting Rulebook")]
    [InlineData("People", "Access Approval Hosting Planning Rulebook")]
    [InlineData("Planning", "Access Approval Fulfilment Hosting Notices Rulebook")]
    [InlineData("Rulebook", "Access Approval Fulfilment Hosting Intake Planning")]
    [InlineData("Scim", "Access Hosting Intake Rulebook")]
    public void A_room_of_the_service_knows_only_these(string room, string known)
    {
        var rooms = Directory.GetDirectories(Repository.At("src", "Oikonom.Service")).Select(Path.GetFileName).ToHashSet();
        var texts = Directory
            .GetFiles(Repository.At("src", "Oikonom.Service", room), "*.cs", SearchOption.AllDirectories)
            .Select(File.ReadAllText)
            .ToList();
        var found = rooms.Where(other =>
            other != room
            && texts.Exists(t =>
                t.Contains($"using Oikonom.Service.{other};", StringComparison.Ordinal)
                || System.Text.RegularExpressions.Regex.IsMatch(
                    t,
                    $@"^(?!\s*//).*(?<![\w.]){other}\.[A-Z]\w+",
                    System.Text.RegularExpressions.RegexOptions.Multiline
                )
            )
        );
        Assert.Equal(known, string.Join(' ', found.Order(StringComparer.Ordinal)));
    }
}
