# A site with a part for administrators, by Flask and its own server.
import sys
from flask import Flask

site = Flask(__name__)


@site.route("/admin")
@site.route("/admin/")
@site.route("/admin/<path:page>")
def admin(page=""):
    return "app admin"


@site.route("/")
@site.route("/<path:page>")
def roster(page=""):
    return "app roster"


site.run(host="127.0.0.1", port=int(sys.argv[1]))
