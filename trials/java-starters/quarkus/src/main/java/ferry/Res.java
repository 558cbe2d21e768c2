package ferry;
import jakarta.ws.rs.*;
@Path("/") public class Res { @GET public String get() { return "quark\n"; } }
