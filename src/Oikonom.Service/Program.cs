using Oikonom.Service.Hosting;

return await Daemon.RunAsync(args);
