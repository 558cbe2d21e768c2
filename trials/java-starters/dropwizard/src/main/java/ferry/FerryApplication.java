package ferry;
import io.dropwizard.core.*;
import io.dropwizard.core.setup.*;
import jakarta.ws.rs.*;
public class FerryApplication extends Application<Configuration> {
  public static void main(String[] args) throws Exception { new FerryApplication().run(args); }
  @Path("/") public static class Home { @GET public String get() { return "dropw\n"; } }
  @Override public void run(Configuration c, Environment e) { e.jersey().register(new Home()); }
}
