using Oikonom.Service.Hosting;

return await Daemon.RunAsync(args, options => options.ClockFile.Length > 0 ? new MovedClock(options) : TimeProvider.System);
