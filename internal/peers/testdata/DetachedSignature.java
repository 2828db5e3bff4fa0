import java.nio.file.Files;
import java.nio.file.Path;
import sun.security.pkcs.PKCS7;
import sun.security.pkcs.SignerInfo;

/** Says whose signature stands beside each file, by the runtime's own reader of such signatures. */
public class DetachedSignature {
    public static void main(String[] args) throws Exception {
        PKCS7 signature = new PKCS7(Files.readAllBytes(Path.of(args[0])));
        for (int i = 1; i < args.length; i++) {
            try {
                SignerInfo[] signers = signature.verify(Files.readAllBytes(Path.of(args[i])));
                System.out.println(signers == null ? "nobody"
                        : signers[0].getCertificate(signature).getSubjectX500Principal().getName());
            } catch (java.security.SignatureException e) {
                System.out.println("refused");
            }
        }
    }
}
