"""The directory: a list of the devices that can be reached here."""

from typing import Any

from fenvik.standins.rpc import Device, Params


class Directory(Device):
    """Lists the other stand-ins."""

    role = "directory"

    def __init__(self, host: str, devices: list[Device]) -> None:
        super().__init__("Fenvik", "Stand-ins", "STAND-INS")
        self.host, self.devices = host, devices
        self.methods["list"] = self.list

    async def list(self, _: Params) -> list[dict[str, Any]]:
        """Return every device with its address."""
        return [
            {"role": d.role, "name": d.name, "serial": d.serial, "host": self.host, "port": d.port}
            for d in self.devices
        ]
