using Oikonom.Bench;

var what = args.Length > 0 ? args[0] : "all";
if (what is not ("all" or "fulfilment" or "intake" or "start"))
{
    Console.Error.WriteLine("usage: bench [all|fulfilment|intake|start]");
    return 2;
}
Console.WriteLine($"{Environment.ProcessorCount} processors, .NET {Environment.Version}");
if (what is "all" or "start") await Start.RunAsync();
if (what is "all" or "intake") await Intake.RunAsync(100_000);
if (what is "all" or "fulfilment") await Fulfilment.RunAsync(2000);
return 0;
