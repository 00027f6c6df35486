using Oikonom.Bench;

var what = args.Length > 0 ? args[0] : "all";
if (
    what
    is not (
        "all"
        or "fulfilment"
        or "syncing"
        or "nodes"
        or "intake"
        or "start"
        or "rehearse"
        or "expressions"
        or "scim"
        or "inbox"
        or "people"
        or "urgent"
        or "reconcile"
        or "applications"
    )
)
{
    Console.Error.WriteLine(
        "usage: bench [all|start|intake [ROWS]|fulfilment|syncing|nodes|rehearse|expressions|scim|inbox|people|urgent|reconcile|"
            + "applications]"
    );
    return 2;
}
Console.WriteLine($"{Environment.ProcessorCount} processors, .NET {Environment.Version}");
if (what is "all" or "start")
    await Start.RunAsync();
if (what is "all" or "intake")
{
    // The smaller one shows what grows with the people known, and what does not.
    if (args.Length < 2)
        await Intake.RunAsync(10_000);
    await Intake.RunAsync(args.Length < 2 ? 100_000 : int.Parse(args[1], System.Globalization.CultureInfo.InvariantCulture));
}
if (what is "all" or "fulfilment")
    await Fulfilment.RunAsync(args.Length < 2 ? 2000 : int.Parse(args[1], System.Globalization.CultureInfo.InvariantCulture), syncs: false);
if (what is "all" or "syncing")
    await Fulfilment.RunAsync(1000, syncs: true);
if (what is "all" or "nodes")
    await Fulfilment.NodesAsync(args.Length < 2 ? 1000 : int.Parse(args[1], System.Globalization.CultureInfo.InvariantCulture));
if (what is "all" or "urgent")
    await Fulfilment.UrgentAsync(8400);
if (what is "all" or "expressions")
    Expressions.Run();
if (what is "all" or "rehearse")
    await Rehearse.RunAsync();
if (what is "all" or "scim")
    await Scim.RunAsync(3000);
if (what is "all" or "inbox")
    await Inbox.RunAsync(5000);
if (what is "all" or "applications")
    await Applications.RunAsync(2000);
if (what is "all" or "reconcile")
    await Reconcile.RunAsync(args.Length < 2 ? 100_000 : int.Parse(args[1], System.Globalization.CultureInfo.InvariantCulture));
if (what is "all" or "people")
    await People.RunAsync(100_000);
return 0;
